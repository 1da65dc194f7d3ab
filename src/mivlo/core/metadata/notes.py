"""What the parts of a file say: where it stands in time, what it is called, what is marked in it."""

import struct
from collections.abc import Iterator
from dataclasses import dataclass
from xml.etree import ElementTree

from mivlo.core.metadata.comments import BEXT_TIME, comments_in
from mivlo.core.metadata.parts import COMMENT, Carried

__all__ = ["Marker", "Notes", "cue_points", "notes_of"]

MOST_XML_BYTES = 4 << 20
MOST_MARKERS, MOST_NAMES, MOST_TEXT = 500, 64, 200


@dataclass(frozen=True, slots=True)
class Marker:
    """A place in a file, in its own frames, and what it is called."""

    frame: int
    name: str


@dataclass(frozen=True, slots=True)
class Notes:
    """What is said of a file. `time_reference`: frames since midnight at its own rate; None where nobody said."""

    time_reference: int | None = None
    description: str = ""
    track_names: tuple[str, ...] = ()
    markers: tuple[Marker, ...] = ()


def notes_of(parts: Carried) -> Notes:
    """Return what the parts of a file say; what is damaged says nothing.

    Raises
    ------
    Nothing.

    Source: bext of EBU Tech 3285 (from memory; offsets checked with what ffmpeg reads and writes); iXML's TRACK_LIST
    (from memory); cue and LIST adtl of the RIFF specification; Vorbis comments of RFC 9639
    """
    time, description = None, ""
    names: tuple[str, ...] = ()
    for part in parts:
        if part.name == b"bext" and len(part.data) >= BEXT_TIME + 8:
            time = struct.unpack("<Q", part.data[BEXT_TIME : BEXT_TIME + 8])[0]
            description = _text(part.data[:256])
        elif part.name == b"iXML" and not names:
            names = tuple(_names_in(part.data))
        elif part.name == COMMENT:
            comments = dict(comments_in(part.data))
            if time is None and comments.get("time_reference", "").isdecimal():
                time = int(comments["time_reference"])
            description = description or comments.get("description", "")
            names = names or tuple(comments[name] for name in ("title",) if comments.get(name))
    # A day has so many frames at the highest rate; what says more is no time.
    is_time = time is not None and 0 < time < 86_400 * 768_000
    return Notes(time if is_time else None, description[:MOST_TEXT], names, tuple(_markers(parts)))


def _text(data: bytes) -> str:
    bare = data.split(b"\0", 1)[0]
    try:
        text = bare.decode("utf-8")
    except UnicodeDecodeError:
        text = bare.decode("latin-1")
    return "".join(one if one.isprintable() else " " for one in text).strip()


def _names_in(data: bytes) -> Iterator[str]:
    """Yield the names of the tracks of an iXML document, in the order of their channels."""
    if len(data) > MOST_XML_BYTES or b"<!" in data.replace(b"<!--", b""):  # what declares entities is read by nobody
        return
    try:
        root = ElementTree.fromstring(data.rstrip(b"\0 \r\n"))
    except (ElementTree.ParseError, ValueError, LookupError):
        return
    for track in root.findall("./TRACK_LIST/TRACK")[:MOST_NAMES]:
        name = (track.findtext("NAME") or "").strip()
        if name:
            yield _text(name.encode())[:MOST_TEXT]


def cue_points(data: bytes) -> list[tuple[int, bytes]]:
    """Return the frame of each cue point and its 24 bytes. Raises nothing. Source: the RIFF specification."""
    n = min(int.from_bytes(data[:4], "little"), MOST_MARKERS, (len(data) - 4) // 24)
    points = [data[4 + 24 * one : 28 + 24 * one] for one in range(max(n, 0))]
    return [(struct.unpack("<I", point[20:24])[0], point) for point in points]


def _markers(parts: Carried) -> Iterator[Marker]:
    labels: dict[int, str] = {}
    for part in parts:
        if part.name == b"LIST" and part.data[:4] == b"adtl":
            labels |= {number: _text(text) for kind, number, text in _labels(part.data) if kind == b"labl"}
    for part in parts:
        if part.name == b"cue ":
            found = [(frame, struct.unpack("<I", point[:4])[0]) for frame, point in cue_points(part.data)]
            for at, (frame, number) in enumerate(sorted(found), start=1):
                yield Marker(frame, (labels.get(number) or f"marker {at}")[:60])


def _labels(data: bytes) -> Iterator[tuple[bytes, int, bytes]]:
    position = 4
    while position + 12 <= len(data):
        kind, size, number = struct.unpack("<4sII", data[position : position + 12])
        yield kind, number, data[position + 12 : position + 8 + size]
        position += 8 + size + size % 2
