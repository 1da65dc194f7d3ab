"""Only pages of this very server may talk to it: foreign Host and Origin headers are refused."""

from collections.abc import Awaitable, Callable, MutableMapping
from typing import Any

__all__ = ["LocalOnly"]

Scope = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[MutableMapping[str, Any]]]
Send = Callable[[MutableMapping[str, Any]], Awaitable[None]]
NAMES = ("127.0.0.1", "localhost")
# Nothing but our own page, and nobody's frame around it.
POLICY = (
    "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data: blob:; worker-src 'self' blob:; "
    "connect-src 'self' ws://127.0.0.1:* ws://localhost:*; frame-ancestors 'none'; base-uri 'none'; form-action 'self'"
)
HEADERS = [
    (b"x-content-type-options", b"nosniff"),
    (b"x-frame-options", b"DENY"),
    (b"referrer-policy", b"no-referrer"),
    (b"content-security-policy", POLICY.encode()),
]


class LocalOnly:
    """ASGI middleware; a page on another site, or a name that resolves to us, gets 403 (WebSockets are closed)."""

    def __init__(
        self, app: Callable[[Scope, Receive, Send], Awaitable[None]], *, own_port: int, page_port: int
    ) -> None:
        self._app = app
        self._hosts = {f"{name}:{own_port}" for name in NAMES}
        self._origins = {f"http://{name}:{page_port}" for name in NAMES}

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        async def send_with_headers(message: MutableMapping[str, Any]) -> None:
            if message["type"] == "http.response.start":
                message = {**message, "headers": [*message["headers"], *HEADERS]}
            await send(message)

        if scope["type"] not in ("http", "websocket") or self._allowed(scope):
            await self._app(scope, receive, send_with_headers)
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
