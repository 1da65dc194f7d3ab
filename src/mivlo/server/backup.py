"""`mivlo backup` and `mivlo restore`: all that is kept, as one file, checked by hash; while Mivlo runs, too."""

import argparse
import contextlib
import json
import re
import shutil
import subprocess
import sys
import tempfile
import zipfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, ValidationError

from mivlo.core.bundle import copied
from mivlo.core.errors import MivloError
from mivlo.core.treatment import explain_validation
from mivlo.server.db.cluster import ClusterError, ElsewhereDatabase, postgres_program, running_cluster, start_cluster
from mivlo.server.run import StepError, default_data_folder, only_one

__all__ = ["backup_main", "restore_main"]

MANIFEST, DUMP = "manifest.json", "database.dump"
FOLDERS = ("audio", "handover")  # what is in others can be computed again
PATH = re.compile(rf"({'|'.join(FOLDERS)})/[0-9A-Za-z_.-]+/[0-9A-Za-z_.-]+|{re.escape(DUMP)}")


class _File(BaseModel):
    model_config = ConfigDict(extra="forbid")

    sha256: str
    bytes: int


class _Manifest(BaseModel):
    model_config = ConfigDict(extra="forbid")

    mivlo_backup: Literal[1] = 1
    files: dict[str, _File]


def backup_main(words: list[str]) -> int:
    """Write everything into one file; returns the exit status."""
    parser = argparse.ArgumentParser(prog="mivlo backup", description=(backup_main.__doc__ or "").split(";")[0])
    parser.add_argument("file", type=Path, help="file to write")
    return _said(_arguments(parser, words), _back_up)


def restore_main(words: list[str]) -> int:
    """Make a data folder of a backup; returns the exit status."""
    parser = argparse.ArgumentParser(prog="mivlo restore", description=(restore_main.__doc__ or "").split(";")[0])
    parser.add_argument("file", type=Path, help="backup to read")
    return _said(_arguments(parser, words), _restore)


def _arguments(parser: argparse.ArgumentParser, words: list[str]) -> argparse.Namespace:
    parser.add_argument("--data", type=Path, default=default_data_folder(), help="data folder")
    parser.add_argument("--database", metavar="URL", help="of a PostgreSQL that is used instead of one of our own")
    return parser.parse_args(words)


def _said(arguments: argparse.Namespace, do: Any) -> int:
    try:
        done = do(arguments.file, arguments.data.expanduser().resolve(), arguments.database)
    except (MivloError, StepError, ClusterError, OSError, zipfile.BadZipFile) as error:
        print(f"mivlo: {error}", file=sys.stderr)
        return 1
    print(done)
    return 0


def _back_up(target: Path, data: Path, database: str | None) -> str:
    if not (data / "audio").is_dir():
        raise MivloError(f"there is no Mivlo in {data}; --data names its folder")
    part = target.with_name(f".{target.name}.part")
    files: dict[str, _File] = {}
    try:
        with zipfile.ZipFile(part, "w", zipfile.ZIP_STORED) as archive, tempfile.TemporaryDirectory() as scratch:
            # The database first: whatever comes in meanwhile is in nobody's way, and what was there stays there.
            dump = Path(scratch) / DUMP
            with _database_of(data, database) as url:
                _postgres("pg_dump", ["--format=custom", "--no-owner", f"--file={dump}", f"--dbname={url}"])
            files[DUMP] = _added(archive, dump, DUMP)
            for folder in FOLDERS:
                for path in sorted((data / folder).glob("*/*")):
                    name = path.relative_to(data).as_posix()
                    if path.is_file() and PATH.fullmatch(name):
                        files[name] = _added(archive, path, name)
            archive.writestr(MANIFEST, _Manifest(files=files).model_dump_json(indent=1))
        part.replace(target)
    except FileNotFoundError as error:
        raise MivloError(f"{error.filename} went away while it was saved: begin again") from error
    finally:
        part.unlink(missing_ok=True)
    return f"{target}: {len(files)} files, {sum(one.bytes for one in files.values()) / 1e6:.0f} MB"


def _added(archive: zipfile.ZipFile, path: Path, name: str) -> _File:
    with path.open("rb") as source, archive.open(zipfile.ZipInfo(name), "w", force_zip64=True) as out:
        sha256, n_bytes = copied(source, out)
    return _File(sha256=sha256, bytes=n_bytes)


@contextlib.contextmanager
def _database_of(data: Path, database: str | None) -> Iterator[str]:
    """Give the address of the database, which is started where Mivlo does not run."""
    if database is not None:
        yield _plain(ElsewhereDatabase(database).url)
        return
    running = running_cluster(data / "database")
    if running is not None:
        yield _plain(running.url)
        return
    with only_one(data):
        cluster = start_cluster(data / "database")
        try:
            yield _plain(cluster.url)
        finally:
            cluster.stop()


def _plain(url: str) -> str:
    return url.replace("postgresql+psycopg://", "postgresql://", 1)


def _postgres(program: str, words: list[str]) -> None:
    done = subprocess.run(
        [postgres_program(program), *words], stdin=subprocess.DEVNULL, capture_output=True, text=True, check=False
    )
    if done.returncode:
        reason = re.sub(r"://[^@/ ]*@", "://…@", done.stderr.strip())  # never the password
        raise ClusterError(f"{program} failed: {reason[-500:]}")


def _restore(source: Path, data: Path, database: str | None) -> str:
    if data.exists() and any(data.iterdir()):
        raise MivloError(f"{data} is not empty: a backup is restored into an empty folder; --data names another one")
    with zipfile.ZipFile(source) as archive:
        manifest = _read_manifest(archive, source.name)
        data.mkdir(parents=True, exist_ok=True)
        data.chmod(0o755)  # the database's own user has to pass through
        try:
            with tempfile.TemporaryDirectory() as scratch:
                for name, file in manifest.files.items():
                    _extract(archive, name, file, (Path(scratch) if name == DUMP else data) / name)
                _load(Path(scratch) / DUMP, data, database)
        except BaseException:
            for one in data.iterdir():
                shutil.rmtree(one, ignore_errors=True)
            raise
    return f"{data}: {len(manifest.files)} files are back; start Mivlo with --data {data}"


def _read_manifest(archive: zipfile.ZipFile, name: str) -> _Manifest:
    try:
        fields = json.loads(archive.read(MANIFEST))
    except (KeyError, ValueError) as error:
        raise MivloError(f"{name}: is no backup, or was cut off ({error})") from error
    version = fields.get("mivlo_backup") if isinstance(fields, dict) else None
    if isinstance(version, int) and version > 1:
        raise MivloError(f"{name}: was made by a newer Mivlo (backup version {version}): update Mivlo to restore it")
    try:
        manifest = _Manifest.model_validate(fields)
    except ValidationError as error:
        raise MivloError(f"{name}: {explain_validation(error)}") from error
    wrong = next((one for one in manifest.files if not PATH.fullmatch(one) or ".." in one.split("/")), None)
    if wrong is not None or DUMP not in manifest.files:
        raise MivloError(f"{name}: {wrong or DUMP} is no file of a backup" if wrong else f"{name}: holds no {DUMP}")
    return manifest


def _extract(archive: zipfile.ZipFile, name: str, file: _File, target: Path) -> None:
    target.parent.mkdir(parents=True, exist_ok=True)
    try:
        with archive.open(name) as source, target.open("wb") as out:
            found = copied(source, out, file.bytes)
    except KeyError as error:
        raise MivloError(f"{name} is missing in the backup") from error
    if found != (file.sha256, file.bytes):
        raise MivloError(f"{name} is not the file that was saved: the backup is damaged")


def _load(dump: Path, data: Path, database: str | None) -> None:
    (data / "audio").mkdir(exist_ok=True)
    cluster = ElsewhereDatabase(database) if database is not None else start_cluster(data / "database")
    try:
        _postgres("pg_restore", ["--no-owner", "--exit-on-error", f"--dbname={_plain(cluster.url)}", str(dump)])
    finally:
        cluster.stop()
