"""Files that hold less, or more, than their heads promise: the audio library reads what is there and says nothing."""

import struct
from pathlib import Path
from typing import BinaryIO

from mivlo.core.riff import missing_bytes as missing_of_riff

__all__ = ["missing_bytes", "unreported_frames"]

UNKNOWN_SIZE = 0xFFFFFFFF
W64_HEAD = 24  # of a chunk: 16 bytes of name, 8 of length, which counts these 24 too
OGG_LAST = 0x04
FLAC_LOOK_BYTES = 1 << 18  # from the end: a frame is shorter than that
FLAC_BLOCKS = {1: 192, **{2 + n: 576 << n for n in range(4)}, **{8 + n: 256 << n for n in range(8)}}


def missing_bytes(path: Path) -> int:
    """Return how many bytes are missing at the end of a file, as far as its format tells; 0 of others.

    Raises
    ------
    OSError: a file that cannot be read

    Source: `riff.missing_bytes`; AU, Wave64, CAF and Ogg (RFC 3533) from memory, tried on written and cut files
    """
    size = path.stat().st_size
    with path.open("rb") as file:
        head = file.read(24)
        if head[:4] in (b".snd", b"dns."):
            return _missing_of_au(head, size)
        if head[:4] == b"riff" and len(head) == 24:
            return _missing_of_w64(file, size)
        if head[:4] == b"caff":
            return _missing_of_caf(file, size)
        if head[:4] == b"OggS":
            return _missing_of_ogg(file, size)
    return missing_of_riff(path)


def _missing_of_au(head: bytes, size: int) -> int:
    if len(head) < 12:
        return 0
    order = ">" if head[:4] == b".snd" else "<"
    offset, length = struct.unpack(f"{order}II", head[4:12])
    return 0 if length == UNKNOWN_SIZE else max(offset + length - size, 0)


def _missing_of_w64(file: BinaryIO, size: int) -> int:
    position = 40
    while position + W64_HEAD <= size:
        file.seek(position)
        head = file.read(W64_HEAD)
        length = struct.unpack("<Q", head[16:])[0]
        if head[:4] == b"data":
            return int(max(position + length - size, 0))
        if length < W64_HEAD:
            return 1
        position += (length + 7) // 8 * 8
    return 1  # no sound at all: at least something is missing


def _missing_of_caf(file: BinaryIO, size: int) -> int:
    position = 8
    while position + 12 <= size:
        file.seek(position)
        name, length = struct.unpack(">4sq", file.read(12))
        if name == b"data":
            return int(max(position + 12 + length - size, 0)) if length >= 0 else 0
        if length < 0:
            return 1
        position += 12 + length
    return 1


def _missing_of_ogg(file: BinaryIO, size: int) -> int:
    """Walk the pages: the last one says that it is, and is whole."""
    position, kind = 0, 0
    while position + 27 <= size:
        file.seek(position)
        head = file.read(27)
        if head[:4] != b"OggS":
            return 0  # damaged within: whoever reads it will see
        kind, n_segments = head[5], head[26]
        table = file.read(n_segments)
        position += 27 + n_segments + sum(table)
    return max(position - size, 0 if position == size and kind & OGG_LAST else 1)


def unreported_frames(path: Path) -> int:
    """Return how many frames a FLAC file holds beyond those that its head tells; 0 of others, and where it tells none.

    Raises
    ------
    OSError: a file that cannot be read

    Source: STREAMINFO and frame headers of RFC 9639
    """
    with path.open("rb") as file:
        head = file.read(42)
        if head[:4] != b"fLaC" or len(head) < 42:
            return 0
        smallest, largest = struct.unpack(">HH", head[8:12])
        n_reported = int.from_bytes(head[18:26], "big") & ((1 << 36) - 1)
        if not n_reported or smallest != largest:
            return 0
        file.seek(max(path.stat().st_size - FLAC_LOOK_BYTES, 42))
        end = file.read()
    at = len(end)
    while (at := end.rfind(b"\xff\xf8", 0, at)) >= 0:
        frame = _frame_at(end[at : at + 16])
        if frame is not None:
            number, n_frames = frame
            return int(max(number * smallest + n_frames - n_reported, 0))
    return 0


def _frame_at(data: bytes) -> tuple[int, int] | None:
    """Return the number of a frame and how many samples it holds; None where no frame begins here."""
    if len(data) < 7 or data[3] & 1:
        return None
    first = data[4]
    n_more = 0 if first < 0x80 else 8 - (first ^ 0xFF).bit_length() - 1
    if first >= 0x80 and not 1 <= n_more <= 6:
        return None
    number = first if first < 0x80 else first & ((1 << (6 - n_more)) - 1)
    for byte in data[5 : 5 + n_more]:
        number = number << 6 | (byte & 0x3F)
    at, code, rate = 5 + n_more, data[2] >> 4, data[2] & 0x0F
    n_frames = FLAC_BLOCKS.get(code, 0)
    for special, length in ((6, 1), (7, 2)):
        if code == special:
            n_frames = int.from_bytes(data[at : at + length], "big") + 1
            at += length
    at += {12: 1, 13: 2, 14: 2}.get(rate, 0)
    if not n_frames or at >= len(data) or _crc8(data[:at]) != data[at]:
        return None
    return number, n_frames


def _crc8(data: bytes) -> int:
    crc = 0
    for byte in data:
        crc ^= byte
        for _ in range(8):
            crc = (crc << 1 ^ 0x07 if crc & 0x80 else crc << 1) & 0xFF
    return crc
