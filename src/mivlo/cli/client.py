"""Asking the running application for what only it has; used by the command line."""

import json
import shutil
import urllib.error
import urllib.parse
import urllib.request
from pathlib import Path
from typing import IO, Any

from mivlo.core.errors import MivloError, NotFoundError

__all__ = ["save_bundle"]

TIMEOUT_S = 600.0


def save_bundle(session: str, target: Path, *, port: int) -> None:
    """Write a session of the application on this machine to a file, which appears only when it is whole.

    Raises
    ------
    NotFoundError: no such session, or several of that name
    MivloError: the application does not answer, or refuses
    OSError: a place that cannot be written
    """
    with _asked("/api/sessions", port) as answer:
        listed: list[dict[str, Any]] = json.load(answer)
    found = [one["id"] for one in listed if session in (one["id"], one["name"])]
    if len(found) != 1:
        names = ", ".join(f"{one['name']} ({one['id']})" for one in listed) or "none"
        raise NotFoundError(f"{len(found)} sessions are called {session!r:.80}; there are: {names}")
    part = target.with_name(f".{target.name}.part")
    try:
        with _asked(f"/api/sessions/{found[0]}/bundle", port) as answer, part.open("wb") as out:
            shutil.copyfileobj(answer, out)
        part.replace(target)
    finally:
        part.unlink(missing_ok=True)


def _asked(path: str, port: int) -> IO[bytes]:
    try:
        answer: IO[bytes] = urllib.request.urlopen(f"http://127.0.0.1:{port}{path}", timeout=TIMEOUT_S)
    except urllib.error.HTTPError as error:
        text = error.read().decode(errors="replace")
        raise MivloError(f"the application refuses: {_message_in(text)}") from error
    except OSError as error:
        raise MivloError(f"no application answers on port {port} of this machine ({error}): start it first") from error
    return answer


def _message_in(text: str) -> str:
    try:
        return str(json.loads(text)["message"])
    except (ValueError, KeyError, TypeError):
        return text[:200]
