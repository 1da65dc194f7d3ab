"""What the heads of WAV, RF64, AIFF and FLAC files promise: the audio library reads truncated files silently."""

import io
import os
import struct
from collections.abc import Iterator
from pathlib import Path
from typing import BinaryIO

__all__ = ["LONG_WAVES", "BareLongWave", "declared_seconds", "missing_bytes", "wave_chunks"]

UNKNOWN_SIZE = 0xFFFFFFFF
LONG_WAVES = (b"RF64", b"BW64")
MOST_CHUNKS = 500


def wave_chunks(file: BinaryIO, file_size: int) -> Iterator[tuple[bytes, int, int]]:
    """Yield name, place and size of each chunk of a WAVE file. Raises OSError.

    Source: RIFF/WAVE chunk layout; RF64's ds64 chunk (EBU Tech 3306, from memory)
    """
    long_size, position, n_chunks = 0, 12, 0
    while position + 8 <= file_size and n_chunks < MOST_CHUNKS:
        file.seek(position)
        name, size = struct.unpack("<4sI", file.read(8))
        if name == b"ds64":
            long_size = struct.unpack("<Q", file.read(16).ljust(16, b"\0")[8:])[0]
        if name == b"data" and size == UNKNOWN_SIZE:
            size = long_size or file_size - position - 8
        yield name, position + 8, size
        position += 8 + size + size % 2
        n_chunks += 1


class BareLongWave(io.RawIOBase):
    """A RF64 or BW64 file for reading, as RF64 and without all that is not its sound.

    libsndfile 1.2.2 knows no BW64, and in RF64 loses its way behind a chunk of an odd size.
    """

    def __init__(self, path: Path) -> None:
        self._file = path.open("rb")
        size = os.fstat(self._file.fileno()).st_size
        head = {}
        self._start, self._length = size, 0
        for name, at, length in wave_chunks(self._file, size):
            if name in (b"ds64", b"fmt ") and length < 1 << 16:
                self._file.seek(at)
                head[name] = struct.pack("<4sI", name, length) + self._file.read(length) + b"\0" * (length % 2)
            elif name == b"data":
                self._start, self._length = at, min(length, size - at)
                break
        sound = struct.pack("<4sI", b"data", UNKNOWN_SIZE)
        self._head = b"RF64\xff\xff\xff\xffWAVE" + head.get(b"ds64", b"") + head.get(b"fmt ", b"") + sound
        self._at = 0

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def tell(self) -> int:
        return self._at

    def seek(self, offset: int, whence: int = os.SEEK_SET) -> int:
        whole = len(self._head) + self._length
        self._at = max(offset + {os.SEEK_SET: 0, os.SEEK_CUR: self._at, os.SEEK_END: whole}[whence], 0)
        return self._at

    def readinto(self, buffer: memoryview) -> int:  # type: ignore[override]
        wanted = len(buffer)
        data = self._head[self._at : self._at + wanted]
        within = self._at + len(data) - len(self._head)
        if len(data) < wanted and within < self._length:
            self._file.seek(self._start + within)
            data += self._file.read(min(wanted - len(data), self._length - within))
        buffer[: len(data)] = data
        self._at += len(data)
        return len(data)

    def close(self) -> None:
        self._file.close()
        super().close()


def missing_bytes(path: Path) -> int:
    """Return how many bytes the sound chunk promises beyond the file's end; 0 for other formats.

    Source: RIFF/WAVE and AIFF chunk layout; RF64's ds64 chunk (EBU Tech 3306, from memory, tried on written files)
    """
    size = path.stat().st_size
    with path.open("rb") as file:
        head = file.read(12)
        if len(head) < 12:
            return 0
        kind, form = head[:4], head[8:]
        if kind in (b"RIFF", b"RF64", b"BW64") and form == b"WAVE":
            return _missing(file, size, order="<", sound=b"data")
        if kind == b"FORM" and form in (b"AIFF", b"AIFC"):
            return _missing(file, size, order=">", sound=b"SSND")
    return 0


def _missing(file: BinaryIO, file_size: int, *, order: str, sound: bytes) -> int:
    """Walk the chunks up to the sound; sizes of 2³²-1 stand in RF64's ds64 chunk instead."""
    long_size = None
    position = 12
    while True:
        file.seek(position)
        head = file.read(8)
        if len(head) < 8:
            return 1 if position <= file_size else 0  # no sound chunk at all: at least something is missing
        name, chunk_size = head[:4], struct.unpack(f"{order}I", head[4:])[0]
        if name == b"ds64":
            lengths = file.read(16)
            if len(lengths) < 16:
                return 16 - len(lengths)
            long_size = struct.unpack("<Q", lengths[8:])[0]
        if name == sound:
            if chunk_size == UNKNOWN_SIZE:
                if long_size is None:
                    return 0  # written to a pipe, its length never filled in: the sound goes on to the end of the file
                chunk_size = long_size
            return int(max(position + 8 + chunk_size - file_size, 0))
        position += 8 + chunk_size + chunk_size % 2


def declared_seconds(head: bytes) -> float | None:
    """Return how long a WAV, RF64 or FLAC file says that it is, from its first bytes; None where they do not tell.

    Raises
    ------
    Nothing.

    Source: RIFF/WAVE chunk layout; RF64's ds64 chunk (EBU Tech 3306, from memory); STREAMINFO of RFC 9639
    """
    if head[:4] == b"fLaC" and len(head) >= 26:
        packed = int.from_bytes(head[18:26], "big")
        rate_hz, n_frames = packed >> 44, packed & ((1 << 36) - 1)
        return n_frames / rate_hz if rate_hz and n_frames else None
    if head[:4] not in (b"RIFF", b"RF64", b"BW64") or head[8:12] != b"WAVE":
        return None
    bytes_per_s = long_size = 0
    position = 12
    while position + 8 <= len(head):
        name, size = head[position : position + 4], struct.unpack("<I", head[position + 4 : position + 8])[0]
        body = head[position + 8 : position + 8 + size]
        if name == b"ds64" and len(body) >= 16:
            long_size = struct.unpack("<Q", body[8:16])[0]
        elif name == b"fmt " and len(body) >= 12:
            bytes_per_s = struct.unpack("<I", body[8:12])[0]
        elif name == b"data":
            size = long_size if size == UNKNOWN_SIZE else size
            return size / bytes_per_s if bytes_per_s and size else None
        position += 8 + size + size % 2
    return None
