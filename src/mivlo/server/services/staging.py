"""Files that were dropped before there is a session for them: looked at, and kept until they are taken in."""

import json
import shutil
import zipfile
from collections import Counter
from collections.abc import Iterator, Sequence
from pathlib import Path, PurePosixPath
from typing import Literal

from pydantic import BaseModel

from mivlo.core.audiofile import inspect_audio
from mivlo.core.bundle import copied, is_bundle
from mivlo.core.errors import AudioFileError, NotFoundError, TooLargeError
from mivlo.server.db.tables import new_id
from mivlo.server.services.imports import shown_name
from mivlo.server.settings import settings

__all__ = ["StagedFile", "common_rate_hz", "forget", "staged", "staged_path"]

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
        info = inspect_audio(path, limits=settings().import_limits, name=name)
    except AudioFileError as error:
        path.unlink(missing_ok=True)
        return StagedFile(id=file_id, name=name, kind="refused", reason=str(error))
    path.with_name(f"{file_id}.json").write_text(json.dumps({"name": name, "rate_hz": info.sample_rate_hz}))
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
    note = path.with_name(f"{file_id}.json")
    return path, json.loads(note.read_text())["name"] if note.is_file() else "bundle.zip"


def common_rate_hz(file_ids: Sequence[str]) -> int:
    """Return the rate that most of some files have, of those that a session can have; raises NotFoundError."""
    rates: Counter[int] = Counter()
    for file_id in file_ids:
        path, _ = staged_path(file_id)
        rates[json.loads(path.with_name(f"{file_id}.json").read_text())["rate_hz"]] += 1
    fitting = [rate for rate, _ in rates.most_common() if rate in RATES]
    return fitting[0] if fitting else USUAL_RATE_HZ
