"""Files that were dropped before there is a session for them: looked at, and kept until they are taken in."""

import shutil
import zipfile
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import replace
from pathlib import Path, PurePosixPath
from typing import Literal

from pydantic import BaseModel

from mivlo.core.audiofile import inspect_audio
from mivlo.core.bundle import copied, is_bundle
from mivlo.core.errors import AudioFileError, NotFoundError, ParameterError, TooLargeError
from mivlo.core.metadata.containers import carried_by
from mivlo.core.metadata.notes import notes_of
from mivlo.core.pairs import name_of_all, pairs_among
from mivlo.core.rechannel import MOST_CHANNELS, Split, join, split
from mivlo.server.db.tables import new_id
from mivlo.server.services.imports import shown_name
from mivlo.server.settings import settings

__all__ = ["StagedFile", "StagedPair", "as_tracks", "common_rate_hz", "forget", "pairs_of", "staged", "staged_path"]

MOST_ENTRIES = 500
MOST_BYTES = 64 << 30  # of a ZIP, unpacked
MOST_RATIO = 200.0  # of what comes out to what went in: sound packs by far less
RATES = (44_100, 48_000, 88_200, 96_000)
USUAL_RATE_HZ = 48_000


class StagedFile(BaseModel):
    """A file that has arrived: what it is, or why it cannot be a track."""

    id: str
    name: str
    kind: Literal["sound", "bundle", "refused"]
    rate_hz: int | None = None
    n_channels: int | None = None
    seconds: float | None = None
    reason: str = ""


class StagedPair(BaseModel):
    """Two files that are left and right of one sound by their names, and what that would be called; by how much one of
    them is shorter."""

    left: str
    right: str
    name: str
    shorter_by_s: float


def staged(path: Path, name: str) -> list[StagedFile]:
    """Keep a file, or all files of a ZIP, until they are taken in; `path` is moved away.

    Raises
    ------
    TooLargeError: a ZIP of more entries, bytes, or of a higher ratio than any of sound has
    AudioFileError: a ZIP that is damaged
    """
    if not zipfile.is_zipfile(path):
        return [_looked_at(_kept(path), name)]
    if is_bundle(path):
        return [StagedFile(id=_kept(path), name=name, kind="bundle")]
    found: list[StagedFile] = []
    try:
        found.extend(_unpacked(path, name))
    except BaseException:
        for one in found:
            forget(one.id)
        raise
    return found


class _Note(BaseModel):
    """What is known of a sound that has arrived."""

    name: str
    rate_hz: int
    n_channels: int
    n_frames: int
    time_reference: int | None


def pairs_of(file_ids: Sequence[str]) -> list[StagedPair]:
    """Return which of some sounds that have arrived are two sides of one: mono, of one rate and one beginning, and by
    their names."""
    notes = [(file_id, note) for file_id in file_ids if (note := _note_of(file_id)) and note.n_channels == 1]
    found = pairs_among([note.name for _, note in notes])
    return [
        StagedPair(
            left=notes[pair.left][0], right=notes[pair.right][0], name=pair.name,
            shorter_by_s=abs(left.n_frames - right.n_frames) / left.rate_hz,
        )
        for pair in found
        for left, right in [(notes[pair.left][1], notes[pair.right][1])]
        if left.rate_hz == right.rate_hz and _begin_together(left, right)
    ]  # fmt: skip


def _begin_together(left: _Note, right: _Note) -> bool:
    """Tell whether nothing says that two files begin at different times."""
    return None in (left.time_reference, right.time_reference) or left.time_reference == right.time_reference


def as_tracks(file_ids: Sequence[str], channels: Split | None) -> list[tuple[Path, str]]:
    """Return files for tracks, and their names: two mono files as one, one of many channels as several.

    Raises
    ------
    NotFoundError: a file that is not there
    ParameterError: two that do not fit; many channels, and nobody said what is to become of them
    AudioFileError: what cannot be taken in
    """
    places = [staged_path(file_id) for file_id in file_ids]
    limits = settings().import_limits
    if len(places) == 2:
        (left, one), (right, other) = places
        target = _path_of(new_id())
        join(left, right, target, limits=limits, names=(one, other))
        pair = name_of_all([PurePosixPath(name).stem for name in (one, other)])
        return [(target, f"{pair or PurePosixPath(one).stem}.wav")]
    [(path, name)] = places
    note = _note_of(file_ids[0])
    if note is None or note.n_channels <= limits.max_channels:
        return places
    if channels is None:
        raise ParameterError(
            f"{name} has {note.n_channels} channels: say whether each becomes a track, or each two of them "
            "(channels: mono or pairs)"
        )
    stem = PurePosixPath(name).stem
    parts = split(path, path.parent, channels, limits=limits, name=name)
    return [(part, f"{stem} {ending}.wav") for part, ending in parts]


def _unpacked(path: Path, name: str) -> Iterator[StagedFile]:
    try:
        with zipfile.ZipFile(path) as archive:
            entries = [one for one in archive.infolist() if not one.is_dir() and _is_wanted(one.filename)]
            if len(entries) > MOST_ENTRIES:
                raise TooLargeError(f"{name}: holds {len(entries)} files, at most {MOST_ENTRIES} are taken")
            left = MOST_BYTES
            for entry in entries:
                most = min(
                    left, settings().import_limits.max_bytes, round(MOST_RATIO * max(entry.compress_size, 1_000))
                )
                file_id = new_id()
                # Its name is only shown: it becomes no path.
                try:
                    with archive.open(entry) as source, _path_of(file_id).open("wb") as out:
                        _, n_bytes = copied(source, out, most)
                except BaseException:
                    forget(file_id)
                    raise
                if n_bytes > most:
                    forget(file_id)
                    raise TooLargeError(
                        f"{name}: {entry.filename:.80} unpacks to more than {most} bytes, which no sound does"
                    )
                left -= n_bytes
                yield _looked_at(file_id, shown_name(entry.filename))
    except (zipfile.BadZipFile, EOFError, NotImplementedError, RuntimeError) as error:
        raise AudioFileError(f"{name}: cannot be unpacked ({error})") from error


def _is_wanted(filename: str) -> bool:
    parts = PurePosixPath(filename).parts
    return bool(parts) and "__MACOSX" not in parts and not parts[-1].startswith(".")


def _path_of(file_id: str) -> Path:
    return settings().data / "incoming" / file_id


def _kept(path: Path) -> str:
    file_id = new_id()
    shutil.move(path, _path_of(file_id))
    return file_id


def _looked_at(file_id: str, name: str) -> StagedFile:
    path = _path_of(file_id)
    try:
        info = inspect_audio(path, limits=replace(settings().import_limits, max_channels=MOST_CHANNELS), name=name)
        notes = notes_of(carried_by(path))
    except AudioFileError as error:
        path.unlink(missing_ok=True)
        return StagedFile(id=file_id, name=name, kind="refused", reason=str(error))
    note = _Note(
        name=name, rate_hz=info.sample_rate_hz, n_channels=info.n_channels, n_frames=info.n_frames,
        time_reference=notes.time_reference,
    )  # fmt: skip
    path.with_name(f"{file_id}.json").write_text(note.model_dump_json())
    return StagedFile(
        id=file_id, name=name, kind="sound", rate_hz=info.sample_rate_hz, n_channels=info.n_channels,
        seconds=info.n_frames / info.sample_rate_hz,
    )  # fmt: skip


def forget(file_id: str) -> None:
    """Let go of a file that has arrived. Raises OSError."""
    for path in (_path_of(file_id), _path_of(f"{file_id}.json")):
        path.unlink(missing_ok=True)


def staged_path(file_id: str) -> tuple[Path, str]:
    """Return where a file is that has arrived, and what it is called; raises NotFoundError."""
    path = _path_of(file_id)
    if not path.is_file():
        raise NotFoundError(f"file {file_id:.80} is not there any more: bring it in again")
    note = _note_of(file_id)
    return path, note.name if note is not None else "bundle.zip"


def _note_of(file_id: str) -> "_Note | None":
    path = _path_of(f"{file_id}.json")
    return _Note.model_validate_json(path.read_text()) if path.is_file() else None


def common_rate_hz(file_ids: Sequence[str]) -> int:
    """Return the rate that most of some files have, of those that a session can have; raises NotFoundError."""
    rates: Counter[int] = Counter()
    for file_id in file_ids:
        staged_path(file_id)
        if (note := _note_of(file_id)) is not None:
            rates[note.rate_hz] += 1
    fitting = [rate for rate, _ in rates.most_common() if rate in RATES]
    return fitting[0] if fitting else USUAL_RATE_HZ
