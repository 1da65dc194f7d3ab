"""The parts of WAV, RF64, BW64 and FLAC files that are not sound, and the comments of Ogg: taken out byte for byte, and
put into another file.

A RIFF chunk that goes into a FLAC file stands in an application block of the id `riff`, as is common practice (no
source), and comes out of it again.
"""

import os
import struct
from collections.abc import Iterator
from pathlib import Path
from typing import BinaryIO

from mivlo.core.errors import AudioFileError
from mivlo.core.metadata.comments import as_chunks
from mivlo.core.metadata.parts import COMMENT, Carried, Part
from mivlo.core.riff import LONG_WAVES, wave_chunks

__all__ = ["carried_by", "put_into"]

MOST_BYTES = 64 << 20  # of one part
MOST_PARTS = 500  # of a FLAC file
COPY_BYTES = 1 << 20
SOUND_PARTS = {b"fmt ", b"data", b"ds64", b"fact", b"PEAK", b"JUNK", b"FLLR", b"PAD ", b"slnt"}
WAVE_HEADS = (b"RIFF", *LONG_WAVES)
APPLICATION = 2
KEPT_BLOCKS = {APPLICATION, COMMENT[0], 5, 6}  # of FLAC (RFC 9639): also cue sheets and pictures
FLAC_MOST = (1 << 24) - 1
MOST_PAGES = 300  # of an Ogg file, up to the end of its comments: of 64 KiB at most
OGG_COMMENTS = (b"\x03vorbis", b"OpusTags")


def carried_by(path: Path) -> Carried:
    """Return what a file carries beside its sound; nothing of formats of which we know no more.

    Raises
    ------
    AudioFileError: a part that is larger than can be kept

    Source: RIFF/WAVE chunk layout; EBU Tech 3306 and ITU-R BS.2088 for RF64 and BW64 (from memory); RFC 9639 for FLAC;
    RFC 3533 for Ogg, whose second packet holds the comments (RFC 7845 for Opus, from memory)
    """
    with path.open("rb") as file:
        head = file.read(12)
        if head[:4] in WAVE_HEADS and head[8:] == b"WAVE":
            return list(_riff_parts(file, path.stat().st_size))
        if head[:4] == b"fLaC":
            return list(_flac_parts(file))
        if head[:4] == b"OggS":
            return list(_ogg_parts(file))
    return []


def _riff_parts(file: BinaryIO, file_size: int) -> Iterator[Part]:
    before = True
    for name, at, size in wave_chunks(file, file_size):
        if name == b"data":
            before = False
        if name in SOUND_PARTS or at + size > file_size:
            continue
        yield Part(name, _read(file, at, size, name), before)


def _flac_parts(file: BinaryIO) -> Iterator[Part]:
    position, last, n_parts = 4, False, 0
    while not last and n_parts < MOST_PARTS:
        file.seek(position)
        head = file.read(4)
        if len(head) < 4:
            return
        last, kind, size = bool(head[0] & 0x80), head[0] & 0x7F, int.from_bytes(head[1:], "big")
        if kind in KEPT_BLOCKS:
            data = _read(file, position + 4, size, bytes([kind]))
            if kind == APPLICATION and data[:4] == b"riff" and len(data) >= 12:
                name, length = struct.unpack("<4sI", data[4:12])
                yield Part(name, data[12 : 12 + length])
            else:
                yield Part(bytes([kind]), data)
        position += 4 + size
        n_parts += 1


def _ogg_parts(file: BinaryIO) -> Iterator[Part]:
    """Yield the comments as the block of FLAC that says the same."""
    file.seek(0)
    packets: list[bytes] = []
    packet = b""
    for _ in range(MOST_PAGES):
        head = file.read(27)
        if len(head) < 27 or head[:4] != b"OggS":
            return
        for length in file.read(head[26]):
            packet += file.read(length)
            if length < 255:
                packets.append(packet)
                packet = b""
        if len(packets) >= 2:
            break
    found = packets[1] if len(packets) >= 2 else b""
    start = next((len(mark) for mark in OGG_COMMENTS if found.startswith(mark)), 0)
    if start:
        data = found[start:]
        yield Part(COMMENT, data[: _comment_length(data)])


def _comment_length(data: bytes) -> int:
    """Return how long the comments are: in Ogg, more may stand behind them."""
    position = 4 + int.from_bytes(data[:4], "little")
    n = int.from_bytes(data[position : position + 4], "little")
    position += 4
    for _ in range(min(n, MOST_PARTS)):
        position += 4 + int.from_bytes(data[position : position + 4], "little")
    return position


def _read(file: BinaryIO, at: int, size: int, name: bytes) -> bytes:
    if size > MOST_BYTES:
        shown_name = name.decode("ascii", "replace")
        raise AudioFileError(f"its part “{shown_name}” has {size} bytes, at most {MOST_BYTES} of each are kept")
    file.seek(at)
    return file.read(size)


def put_into(path: Path, parts: Carried) -> None:
    """Put parts into a WAV, RF64 or FLAC file that has just been written; a WAV file says in chunks what comments of
    FLAC said, other blocks of FLAC are left out there.

    Raises
    ------
    OSError: a full disk; the file is then as it was
    """
    if not parts:
        return
    other = path.with_name(f"{path.name}.parts")
    try:
        with path.open("rb") as source, other.open("wb") as target:
            if source.read(4) == b"fLaC":
                _write_flac(source, target, parts)
            else:
                _write_wave(source, target, path.stat().st_size, as_chunks(parts))
            target.flush()
            os.fsync(target.fileno())
        other.replace(path)
    finally:
        other.unlink(missing_ok=True)


def _write_wave(source: BinaryIO, target: BinaryIO, file_size: int, parts: Carried) -> None:
    source.seek(0)
    head = source.read(12)
    target.write(head)
    wrote_ds64_at = None
    # Chunks that stood before the sound stand behind what describes it.
    for name, at, size in wave_chunks(source, file_size):
        if name == b"data":
            for part in parts:
                if part.is_before_sound:
                    _write_chunk(target, part)
        if name == b"ds64":
            wrote_ds64_at = target.tell() + 8
        source.seek(at - 8)
        _copy(source, target, 8 + size + size % 2)
    for part in parts:
        if not part.is_before_sound:
            _write_chunk(target, part)
    length = target.tell() - 8
    if wrote_ds64_at is not None:
        target.seek(wrote_ds64_at)
        target.write(struct.pack("<Q", length))
    elif head[:4] == b"RIFF":
        target.seek(4)
        target.write(struct.pack("<I", min(length, 0xFFFFFFFF)))


def _write_chunk(target: BinaryIO, part: Part) -> None:
    target.write(struct.pack("<4sI", part.name, len(part.data)) + part.data + b"\0" * (len(part.data) % 2))


def _copy(source: BinaryIO, target: BinaryIO, n_bytes: int) -> None:
    while n_bytes > 0:
        block = source.read(min(COPY_BYTES, n_bytes))
        if not block:
            if n_bytes == 1:  # the last byte of an odd chunk that nobody padded
                target.write(b"\0")
            return
        target.write(block)
        n_bytes -= len(block)


def _write_flac(source: BinaryIO, target: BinaryIO, parts: Carried) -> None:
    """Write the same sound with these blocks: those of the file itself that they take the place of are left out."""
    blocks = [(part.name[0], part.data) for part in parts if not part.is_chunk]
    blocks += [
        (APPLICATION, b"riff" + struct.pack("<4sI", part.name, len(part.data)) + part.data)
        for part in parts
        if part.is_chunk
    ]
    kinds = {kind for kind, _ in blocks}
    own, position, last = [], 4, False
    while not last:
        source.seek(position)
        head = source.read(4)
        last, kind, size = bool(head[0] & 0x80), head[0] & 0x7F, int.from_bytes(head[1:], "big")
        if kind == 0 or (kind not in kinds and kind != 1):
            own.append((kind, source.read(size)))
        position += 4 + size
    every = [*own, *((kind, data) for kind, data in blocks if len(data) <= FLAC_MOST)]
    target.write(b"fLaC")
    for number, (kind, data) in enumerate(every):
        flag = 0x80 if number == len(every) - 1 else 0
        target.write(bytes([kind | flag]) + len(data).to_bytes(3, "big") + data)
    source.seek(position)
    while block := source.read(COPY_BYTES):
        target.write(block)
