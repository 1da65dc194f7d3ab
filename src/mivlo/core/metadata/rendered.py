"""The parts of a file as they are true of what was rendered from it."""

import hashlib
import re
import struct
from dataclasses import replace

from mivlo.core.metadata.comments import BEXT_LENGTH, BEXT_TIME, moved_in_time
from mivlo.core.metadata.notes import cue_points
from mivlo.core.metadata.parts import COMMENT, Carried, Part

__all__ = ["as_rendered"]

BEXT_VERSION, BEXT_LOUDNESS = 346, 412  # two bytes; five values of two bytes each, hundredths
UNSET = 0x7FFF
FILE_ID = re.compile(rb"(<FILE_UID>)([^<]*)(</FILE_UID>)")
SAMPLES_SINCE = re.compile(rb"(<TIMESTAMP_SAMPLES_SINCE_MIDNIGHT_(LO|HI)>)\s*(\d+)\s*(</)")


def as_rendered(
    parts: Carried, *, start_frame: int, n_frames: int, sample_rate_hz: int, n_channels: int, bits: int
) -> Carried:  # fmt: skip
    """Return what still is true of the frames from `start_frame` on of the file that carried it, as they were rendered.

    Loudness fields are unset, the coding history gets a line, times and marks move with the start, the file's own
    identifiers are made new; all else stays byte for byte.

    Raises
    ------
    Nothing.

    Source: definitions of this project; bext as of EBU Tech 3285 with its supplements (from memory)
    """
    kept = []
    gone: set[int] = set()
    for part in parts:
        if part.name == b"cue " and (start_frame or _ends(part, n_frames)):
            points = [(frame - start_frame, point) for frame, point in cue_points(part.data)]
            gone |= {_number(point) for frame, point in points if not 0 <= frame < n_frames}
            moved = [_at(point, frame) for frame, point in points if 0 <= frame < n_frames]
            part = replace(part, data=struct.pack("<I", len(moved)) + b"".join(moved))
        elif part.name == b"bext" and len(part.data) >= BEXT_LENGTH:
            line = _history(sample_rate_hz, n_channels, bits)
            part = replace(part, data=_bext(part.data, start_frame) + line)
        elif part.name == b"iXML":
            part = replace(part, data=_ixml(part.data, start_frame))
        elif part.name == COMMENT:
            part = moved_in_time(part, start_frame)
        elif part.name == bytes([5]) and start_frame:
            continue  # a cue sheet of FLAC counts from the start of the whole
        kept.append(part)
    return [_without(part, gone) for part in kept]


def _ends(cue: Part, n_frames: int) -> bool:
    return any(frame >= n_frames for frame, _ in cue_points(cue.data))


def _number(point: bytes) -> int:
    return int(struct.unpack("<I", point[:4])[0])


def _at(point: bytes, frame: int) -> bytes:
    return point[:4] + struct.pack("<I", frame) + point[8:20] + struct.pack("<I", frame)


def _without(part: Part, numbers: set[int]) -> Part:
    """Return a list of labels without those of cue points that are gone."""
    if not numbers or part.name != b"LIST" or part.data[:4] != b"adtl":
        return part
    out, position = b"adtl", 4
    while position + 12 <= len(part.data):
        size, number = struct.unpack("<II", part.data[position + 4 : position + 12])
        end = position + 8 + size + size % 2
        if number not in numbers:
            out += part.data[position:end]
        position = end
    return replace(part, data=out)


def _bext(data: bytes, start_frame: int) -> bytes:
    out = bytearray(data)
    if start_frame:
        time = struct.unpack_from("<Q", data, BEXT_TIME)[0]
        struct.pack_into("<Q", out, BEXT_TIME, max(time + start_frame, 0))
    if struct.unpack_from("<H", data, BEXT_VERSION)[0] >= 2:
        struct.pack_into("<5H", out, BEXT_LOUDNESS, *[UNSET] * 5)
    history = bytes(out[BEXT_LENGTH:]).rstrip(b"\0")
    if history and not history.endswith(b"\n"):
        history += b"\r\n"
    return bytes(out[:BEXT_LENGTH]) + history


def _history(sample_rate_hz: int, n_channels: int, bits: int) -> bytes:
    mode = {1: "mono", 2: "stereo"}.get(n_channels, "multi")
    return f"A=PCM,F={sample_rate_hz},W={bits},M={mode},T=Mivlo\r\n".encode("ascii")


def _ixml(data: bytes, start_frame: int) -> bytes:
    def new_id(found: re.Match[bytes]) -> bytes:
        made = hashlib.blake2b(found[2] + b" mivlo %d" % start_frame, digest_size=16).hexdigest()
        return found[1] + made.encode() + found[3]

    words = {found[2]: int(found[3]) for found in SAMPLES_SINCE.finditer(data)}
    time = max((words.get(b"HI", 0) << 32) + words.get(b"LO", 0) + start_frame, 0)
    moved = {b"LO": time & 0xFFFFFFFF, b"HI": time >> 32}

    def at(found: re.Match[bytes]) -> bytes:
        return found[1] + b"%d" % moved[found[2]] + found[4]

    out = FILE_ID.sub(new_id, data)
    return SAMPLES_SINCE.sub(at, out) if start_frame else out
