"""Comments of FLAC and Ogg: read, moved in time, and said in the chunks of a WAV file, which knows no comments."""

import struct
from collections.abc import Iterator

from mivlo.core.metadata.parts import COMMENT, Carried, Part

__all__ = ["BEXT_LENGTH", "BEXT_TIME", "as_chunks", "comments_in", "moved_in_time"]

BEXT_TIME = 338  # where the time reference stands in a bext chunk: 8 bytes, low word first
BEXT_LENGTH, BEXT_TEXT = 602, 256
TIME = "time_reference"
MOST_COMMENTS = 1_000
# How the most usual comments are called in a LIST INFO chunk.
_INFO = {"title": b"INAM", "artist": b"IART", "album": b"IPRD", "date": b"ICRD", "genre": b"IGNR", "comment": b"ICMT",
         "tracknumber": b"IPRT", "copyright": b"ICOP", "description": b"ISBJ"}  # fmt: skip


def comments_in(data: bytes) -> Iterator[tuple[str, str]]:
    """Yield names (in small letters) and values of a Vorbis comment; of what is damaged, those before the damage.

    Raises
    ------
    Nothing.

    Source: Vorbis comments of RFC 9639
    """
    for name, value in _entries(data):
        yield name.lower(), value.strip().encode("utf-8", "surrogateescape").decode("utf-8", "replace")


def moved_in_time(part: Part, start_frame: int) -> Part:
    """Return a comment whose time reference, if it has one, says where frame `start_frame` of the file stands. All else
    stays byte for byte. Raises nothing. Source: definitions of this project."""
    entries = list(_entries(part.data))
    if not start_frame or not any(name.lower() == TIME and value.strip().isdecimal() for name, value in entries):
        return part
    out = part.data[: 4 + int.from_bytes(part.data[:4], "little")] + struct.pack("<I", len(entries))
    for name, value in entries:
        if name.lower() == TIME and value.strip().isdecimal():
            value = str(max(int(value) + start_frame, 0))
        entry = f"{name}={value}".encode("utf-8", "surrogateescape")
        out += struct.pack("<I", len(entry)) + entry
    return Part(part.name, out, part.is_before_sound)


def as_chunks(parts: Carried) -> list[Part]:
    """Return what goes into a WAV file: all chunks, and those that say what comments say, where there are none yet.

    Raises
    ------
    Nothing.

    Source: LIST INFO of the RIFF specification; bext as of EBU Tech 3285 (from memory; read again by ffprobe in a test)
    """
    chunks = [part for part in parts if part.is_chunk]
    found = (one for part in parts if part.name == COMMENT for one in comments_in(part.data))
    comments = {name: value for name, value in found if value}
    has_info = any(part.name == b"LIST" and part.data[:4] == b"INFO" for part in chunks)
    if comments.get(TIME, "").isdecimal() and not any(part.name == b"bext" for part in chunks):
        chunks.insert(0, Part(b"bext", _bext(int(comments[TIME]), comments.get("description", ""))))
    entries = [(name, comments[comment].encode() + b"\0") for comment, name in _INFO.items() if comment in comments]
    if entries and not has_info:
        data = b"".join(struct.pack("<4sI", name, len(text)) + text + b"\0" * (len(text) % 2) for name, text in entries)
        chunks.append(Part(b"LIST", b"INFO" + data))
    return chunks


def _bext(time_reference: int, description: str) -> bytes:
    out = bytearray(BEXT_LENGTH)
    text = description.encode("ascii", "replace")[:BEXT_TEXT]
    out[: len(text)] = text
    struct.pack_into("<Q", out, BEXT_TIME, min(time_reference, (1 << 64) - 1))
    return bytes(out)


def _entries(data: bytes) -> Iterator[tuple[str, str]]:
    position = 4 + int.from_bytes(data[:4], "little")
    n = int.from_bytes(data[position : position + 4], "little")
    position += 4
    for _ in range(min(n, MOST_COMMENTS)):
        if position + 4 > len(data):
            return
        start = position + 4
        position = start + int.from_bytes(data[position:start], "little")
        name, _, value = data[start:position].decode("utf-8", "surrogateescape").partition("=")
        yield name, value
