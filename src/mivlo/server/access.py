"""Only pages of this very server may talk to it: foreign Host and Origin headers are refused."""

from collections.abc import Awaitable, Callable, MutableMapping
from typing import Any

__all__ = ["LocalOnly"]

Scope = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[MutableMapping[str, Any]]]
Send = Callable[[MutableMapping[str, Any]], Awaitable[None]]
NAMES = ("127.0.0.1", "localhost")


class LocalOnly:
    """ASGI middleware; a page on another site, or a name that resolves to us, gets 403 (WebSockets are closed)."""

    def __init__(self, app: Callable[[Scope, Receive, Send], Awaitable[None]], *, own_port: int, page_port: int) -> None:
        self._app = app
        self._hosts = {f"{name}:{own_port}" for name in NAMES}
        self._origins = {f"http://{name}:{page_port}" for name in NAMES}

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] not in ("http", "websocket") or self._allowed(scope):
            await self._app(scope, receive, send)
        elif scope["type"] == "websocket":
            await send({"type": "websocket.close", "code": 4403})
        else:
            headers = [(b"content-type", b"text/plain; charset=utf-8")]
            await send({"type": "http.response.start", "status": 403, "headers": headers})
            await send({"type": "http.response.body", "body": b"Refused: this address serves only its own pages.\n"})

    def _allowed(self, scope: Scope) -> bool:
        headers = {name: value.decode("latin-1") for name, value in scope["headers"]}
        origin = headers.get(b"origin")
        return headers.get(b"host") in self._hosts and (origin is None or origin in self._origins)
