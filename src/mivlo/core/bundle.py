"""A bundle: a session in one ZIP, with the files as they were imported, to be opened on another machine.

`session.json` holds everything that was decided (docs/bundle.schema.json); the files lie beside it byte for byte. What
can be computed again is left out.
"""

import hashlib
import json
import re
import shutil
import zipfile
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import IO, Any, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from mivlo.core.errors import BundleError
from mivlo.core.model import RecordedSession
from mivlo.core.proof.blind import Answers, AskedCheck, BlindResult, Order
from mivlo.core.treatment import explain_validation

__all__ = [
    "BUNDLE_VERSION",
    "Bundle",
    "BundledCheck",
    "BundledFile",
    "Manifest",
    "copied",
    "is_bundle",
    "renamed",
    "used_audio_ids",
    "write_bundle",
]

BUNDLE_VERSION: Literal[1] = 1
MANIFEST = "session.json"
MOST_ENTRIES = 2_000
MOST_MANIFEST_BYTES = 256 << 20
COPY_BYTES = 1 << 20
ID = re.compile(r"[0-9a-f]{32}")


class BundledFile(BaseModel):
    """A file as it was imported: where it lies in the bundle, and what it must be when it is taken out."""

    model_config = ConfigDict(extra="forbid")

    path: str = Field(pattern=r"^audio/[0-9a-f]{32}$")
    bytes: int = Field(ge=1)
    sha256: str = Field(pattern="^[0-9a-f]{64}$")


class BundledCheck(BaseModel):
    """A finished blind check, with all from which its result follows."""

    model_config = ConfigDict(extra="forbid")

    asked: AskedCheck
    order: Order
    answers: Answers
    full_db: float
    result: BlindResult


class Manifest(BaseModel):
    """What `session.json` of a bundle holds; ids are 32 hexadecimal digits."""

    model_config = ConfigDict(extra="forbid")

    mivlo_bundle: Literal[1] = BUNDLE_VERSION
    session: RecordedSession
    files: dict[str, BundledFile] = Field(max_length=MOST_ENTRIES)
    blind_checks: list[BundledCheck] = Field(default=[], max_length=1_000)

    @model_validator(mode="after")
    def _all_is_there(self) -> Self:
        ids = [one.id for one in (*self.session.strips(), *self.session.references)]
        wrong = next((one for one in [self.session.id, *ids, *self.files] if not ID.fullmatch(one)), None)
        if wrong is not None:
            raise ValueError(f"the id {wrong[:80]!r} must be 32 hexadecimal digits")
        needed = used_audio_ids(self.session)
        missing = next(iter(sorted(needed - (self.files.keys() & self.session.audio.keys()))), None)
        if missing is not None:
            raise ValueError(f"the file {missing} of a track or reference is not named in files and in session.audio")
        return self


def used_audio_ids(session: RecordedSession) -> set[str]:
    """Return the ids of all files that a session needs. Raises nothing. Source: ours."""
    tracks = {track.audio_id for track in session.tracks} | {one.audio_id for one in session.references}
    return tracks | {track.later.audio_id for track in session.tracks if track.later is not None}


def renamed(manifest: Manifest, new_id: Callable[[], str], audio_ids: Mapping[str, str]) -> Manifest:
    """Return the same session under other ids, so that it can stand beside the one that it came from.

    Parameters
    ----------
    new_id : makes an id
    audio_ids : under which ids the files are kept

    Raises
    ------
    Nothing.

    Source: ours
    """
    session = manifest.session
    known = {one.id: new_id() for one in (*session.strips(), *session.references)}
    twins = {track.twin_id: new_id() for track in session.tracks if track.twin_id is not None}
    names = {**known, **twins, **audio_ids, session.id: new_id()}
    text = ID.sub(lambda found: names.get(found[0], found[0]), manifest.model_dump_json(exclude={"files"}))
    files = {names.get(one, one): file for one, file in manifest.files.items()}
    return Manifest.model_validate({**json.loads(text), "files": files})


def write_bundle(
    target: Path, session: RecordedSession, originals: Callable[[str], Path], checks: list[BundledCheck]
) -> None:  # fmt: skip
    """Write a session and its files; the bundle appears only when it is whole.

    Parameters
    ----------
    originals : gives the file that was imported under an id

    Raises
    ------
    BundleError: a file that is gone
    OSError: a full disk
    """
    part = target.with_name(f".{target.name}.part")
    wanted = used_audio_ids(session)
    plain = RecordedSession.model_validate(
        {name: getattr(session, name) for name in RecordedSession.model_fields}
        | {"audio": {one: facts for one, facts in session.audio.items() if one in wanted}}
    )
    files = {}
    try:
        with zipfile.ZipFile(part, "w", zipfile.ZIP_STORED) as archive:
            for audio_id in sorted(wanted):
                source = originals(audio_id)
                if not source.is_file():
                    raise BundleError(f"the file of {session.audio[audio_id].original_name} is not there any more")
                path = f"audio/{audio_id}"
                with source.open("rb") as data, archive.open(_entry(path), "w", force_zip64=True) as out:
                    sha256, n_bytes = copied(data, out)
                files[audio_id] = BundledFile(path=path, bytes=n_bytes, sha256=sha256)
            manifest = Manifest(session=plain, files=files, blind_checks=checks)
            archive.writestr(_entry(MANIFEST), manifest.model_dump_json(indent=1), zipfile.ZIP_DEFLATED)
        part.replace(target)
    finally:
        part.unlink(missing_ok=True)


def _entry(name: str) -> zipfile.ZipInfo:
    return zipfile.ZipInfo(name)  # of no date: the same session gives the same bundle


def copied(source: IO[bytes], target: IO[bytes], most: int | None = None) -> tuple[str, int]:
    """Copy all bytes, or one more than `most` at most; return their SHA-256 and how many they are. Raises OSError.

    Source: ours.
    """
    digest, n_bytes = hashlib.sha256(), 0
    while most is None or n_bytes <= most:
        block = source.read(COPY_BYTES if most is None else min(COPY_BYTES, most + 1 - n_bytes))
        if not block:
            break
        digest.update(block)
        target.write(block)
        n_bytes += len(block)
    return digest.hexdigest(), n_bytes


def is_bundle(path: Path) -> bool:
    """Tell whether a file wants to be a bundle. Raises nothing: what cannot be read is none. Source: ours."""
    try:
        with zipfile.ZipFile(path) as archive:
            return MANIFEST in archive.namelist()
    except (OSError, zipfile.BadZipFile):
        return False


class Bundle:
    """A bundle that is open for reading; `manifest` is what it holds.

    Raises
    ------
    BundleError: no bundle, cut off, edited, made by a newer version; says which field or file
    """

    def __init__(self, path: Path, *, name: str | None = None) -> None:
        self._name = name or path.name
        try:
            self._archive = zipfile.ZipFile(path)
        except (OSError, zipfile.BadZipFile) as error:
            raise BundleError(f"{self._name}: is no bundle, or was cut off ({error})") from error
        try:
            self.manifest = self._read_manifest()
        except BaseException:
            self._archive.close()
            raise

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *of_error: object) -> None:
        self._archive.close()

    def _read_manifest(self) -> Manifest:
        entries = self._archive.infolist()
        if len(entries) > MOST_ENTRIES + 1:
            raise BundleError(f"{self._name}: holds {len(entries)} files, at most {MOST_ENTRIES + 1} are taken")
        found = next((one for one in entries if one.filename == MANIFEST), None)
        if found is None:
            raise BundleError(f"{self._name}: holds no {MANIFEST}, so it is no bundle")
        if found.file_size > MOST_MANIFEST_BYTES:
            raise BundleError(
                f"{self._name}: {MANIFEST} has {found.file_size} bytes, at most {MOST_MANIFEST_BYTES} are read"
            )
        try:
            data: Any = json.loads(self._archive.read(found))
        except (zipfile.BadZipFile, OSError, ValueError, RecursionError, NotImplementedError, RuntimeError) as error:
            raise BundleError(f"{self._name}: {MANIFEST} is damaged ({error})") from error
        made_by = data.get("mivlo_bundle") if isinstance(data, dict) else None
        if isinstance(made_by, int) and made_by > BUNDLE_VERSION:
            raise BundleError(
                f"{self._name}: was made by a newer Mivlo (bundle version {made_by}, this one reads "
                f"{BUNDLE_VERSION}): update Mivlo to open it"
            )
        try:
            return Manifest.model_validate(data)
        except ValidationError as error:
            raise BundleError(f"{self._name}: {MANIFEST}: {explain_validation(error)}") from error

    def extract(self, audio_id: str, target: Path) -> None:
        """Write a file as it was imported; it is the same to the byte, or nothing is left.

        Raises
        ------
        BundleError: damaged, or not the file that the manifest names
        OSError: a full disk
        """
        file = self.manifest.files[audio_id]
        called = self.manifest.session.audio[audio_id].original_name
        try:
            with self._archive.open(file.path) as source, target.open("wb") as out:
                sha256, n_bytes = copied(source, out, file.bytes)
            if (sha256, n_bytes) != (file.sha256, file.bytes):
                raise BundleError(
                    f"{self._name}: {called} ({file.path}) is not the file that was put in; it was changed"
                )
        except (KeyError, zipfile.BadZipFile, EOFError, NotImplementedError, RuntimeError) as error:
            target.unlink(missing_ok=True)
            raise BundleError(f"{self._name}: {called} ({file.path}) is missing or damaged ({error})") from error
        except BaseException:
            target.unlink(missing_ok=True)
            raise

    def extract_all(self, folder: Path) -> Mapping[str, Path]:
        """Write all files that the session needs into a folder, under their ids; raises as `extract`."""
        found = {}
        try:
            for audio_id in sorted(used_audio_ids(self.manifest.session)):
                found[audio_id] = folder / audio_id
                self.extract(audio_id, found[audio_id])
        except BaseException:
            shutil.rmtree(folder, ignore_errors=True)
            raise
        return found
