"""Files on their way in: written to a name of ours as they arrive, refused as soon as they are seen to be too much."""

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from dataclasses import replace
from pathlib import Path
from typing import Any, BinaryIO

from fastapi import Request
from python_multipart.exceptions import MultipartParseError
from python_multipart.multipart import MultipartParser, parse_options_header

from mivlo.core.audiofile import ImportLimits
from mivlo.core.errors import ParameterError, TooLargeError
from mivlo.core.riff import declared_seconds
from mivlo.server.db.tables import new_id
from mivlo.server.services.imports import shown_name
from mivlo.server.settings import settings

__all__ = ["UPLOAD_BODY", "Upload", "received"]

FORM_BYTES = 1 << 16  # what the form around the file may take
HEAD_BYTES = 1 << 16  # of a file, by which its length is known
UPLOAD_BODY: dict[str, Any] = {
    "requestBody": {
        "required": True,
        "content": {
            "multipart/form-data": {
                "schema": {
                    "type": "object",
                    "required": ["file"],
                    "properties": {
                        "file": {"type": "string", "contentMediaType": "application/octet-stream"},
                        "role": {"type": "string"},
                    },
                }
            }
        },
    }
}


class Upload:
    """What has arrived of a form with one file; `name` is the user's own, shown and kept as words, never as a path."""

    def __init__(self, path: Path, out: BinaryIO, limits: ImportLimits) -> None:
        self.path = path
        self.name = ""
        self.fields: dict[str, str] = {}
        self._out, self._limits = out, limits
        self._headers: dict[bytes, bytes] = {}
        self._header = [b"", b""]
        self._field = ""
        self._is_file = False
        self._bytes = 0
        self._head: bytes | None = b""

    def callbacks(self) -> Any:
        """Return what the parser calls."""
        return {
            "on_part_begin": self._headers.clear,
            "on_header_field": lambda data, start, end: self._take_header(0, data[start:end]),
            "on_header_value": lambda data, start, end: self._take_header(1, data[start:end]),
            "on_header_end": self._end_header,
            "on_headers_finished": self._begin_part,
            "on_part_data": lambda data, start, end: self._take(data[start:end]),
        }

    def _take_header(self, part: int, data: bytes) -> None:
        self._header[part] += data

    def _end_header(self) -> None:
        self._headers[self._header[0].lower()] = self._header[1]
        self._header = [b"", b""]

    def _begin_part(self) -> None:
        _, options = parse_options_header(self._headers.get(b"content-disposition", b""))
        self._field = options.get(b"name", b"").decode("utf-8", "replace")
        self._is_file = self._field == "file" and b"filename" in options
        if self._is_file:
            self.name = shown_name(options[b"filename"].decode("utf-8", "replace"))

    def _take(self, data: bytes) -> None:
        if not self._is_file:
            self.fields[self._field] = (self.fields.get(self._field, "") + data.decode("utf-8", "replace"))[:1_000]
            return
        self._bytes += len(data)
        if self._bytes > self._limits.max_bytes:
            raise TooLargeError(_too_many_bytes(self.name, self._limits))
        if self._head is not None:
            self._look_at_head(data)
        self._out.write(data)

    def _look_at_head(self, data: bytes) -> None:
        self._head = (self._head or b"") + data[:HEAD_BYTES]
        seconds = declared_seconds(self._head)
        if seconds is not None and seconds > self._limits.max_seconds:
            raise TooLargeError(
                f"{self.name} is {seconds / 60:.1f} minutes long; at most {self._limits.max_seconds / 60:.0f} minutes "
                "can be taken in"
            )
        if seconds is not None or len(self._head) >= HEAD_BYTES:
            self._head = None


@asynccontextmanager
async def received(request: Request, *, max_bytes: int | None = None) -> AsyncIterator[Upload]:
    """Give a whole upload; its file is gone at the end unless it was moved away, and where it is refused.

    Parameters
    ----------
    max_bytes : at most; None: as many as an import may have

    Raises
    ------
    TooLargeError: more bytes, or minutes, than can be taken in; told while it arrives
    ParameterError: no form with a file
    """
    limits = settings().import_limits
    if max_bytes is not None:
        limits = replace(limits, max_bytes=max_bytes)
    declared = request.headers.get("content-length", "")
    if declared.isdigit() and int(declared) > limits.max_bytes + FORM_BYTES:
        raise TooLargeError(_too_many_bytes("the file", limits))
    _, options = parse_options_header(request.headers.get("content-type", ""))
    if b"boundary" not in options:
        raise ParameterError("the body is no form: send multipart/form-data with the file in the field “file”")
    path = settings().data / "incoming" / new_id()
    path.parent.mkdir(parents=True, exist_ok=True)
    try:
        with path.open("wb") as out:
            upload = Upload(path, out, limits)
            parser = MultipartParser(options[b"boundary"], upload.callbacks())
            try:
                async for data in request.stream():
                    parser.write(data)
            except MultipartParseError as error:
                raise ParameterError(f"the form cannot be read ({error}): send the file again") from error
        if not upload.name:
            raise ParameterError("file: missing; send it in the field “file” of a form")
        yield upload
    finally:
        path.unlink(missing_ok=True)


def _too_many_bytes(name: str, limits: ImportLimits) -> str:
    return f"{name} is larger than the {limits.max_bytes / 2**30:.1f} GiB that can be taken in"
