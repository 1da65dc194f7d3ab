"""Requests as no page would send them, drawn from the API's own description: each is answered, none breaks anything."""

import contextlib
import json
import uuid
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import quote

import httpx
import numpy as np
import pytest
from websockets.sync.client import connect

from mivlo.server.monitor.messages import from_page

from ..conftest import Running
from .helpers import bell, edit, session_with_track, set_track

ABSURD: tuple[Any, ...] = (
    None,
    True,
    0,
    -1,
    10**30,
    1e308,
    -1e308,
    float("nan"),
    float("inf"),
    "",
    "\x00",
    "nul \x00 inside",
    "\ud800",
    "x" * 70_000,
    "../../etc",
    "3.5k",
    [],
    {},
    [[]],
    [None],
    {"kind": "bell"},
    [{"kind": "plane", "amount": 1e99}],
)
PER_OPERATION, PER_EDIT = 30, 120
HOW_ABSURD = (0.0, 0.03, 0.12)  # of the values of a request
DEEPEST = 12
EPOCH = 7_777
HISTORY = ("/undo", "/redo")
LEFT_ALONE = {("delete", "/api/sessions/{session_id}")}  # would end what the others are asked about


@dataclass
class Drawer:
    """Draws values of the shapes that the description wants; what is known by name is mostly taken as it is."""

    api: dict
    random: np.random.Generator
    known: dict = field(default_factory=dict)
    absurd: float = 0.0

    def value(self, schema: dict, depth: int = 0) -> Any:
        if self.random.random() < self.absurd or depth > DEEPEST:
            return ABSURD[int(self.random.integers(len(ABSURD)))]
        if "$ref" in schema:
            return self.value(self.api["components"]["schemas"][schema["$ref"].rpartition("/")[2]], depth)
        for several in ("anyOf", "oneOf", "allOf"):
            if several in schema:
                return self.value(schema[several][int(self.random.integers(len(schema[several])))], depth + 1)
        if "enum" in schema or "const" in schema:
            values = schema.get("enum", [schema.get("const")])
            return values[int(self.random.integers(len(values)))]
        low = schema.get("minimum", schema.get("exclusiveMinimum", -10))
        high = schema.get("maximum", schema.get("exclusiveMaximum", max(low + 10, 1e4)))
        match schema.get("type"):
            case "object":
                return {
                    name: self.named(name, part, depth)
                    for name, part in schema.get("properties", {}).items()
                    if name in schema.get("required", ()) or "const" in part or self.random.random() < 0.5
                }
            case "array":
                count = int(self.random.integers(schema.get("minItems", 0), 3))
                parts = schema.get("prefixItems") or [schema.get("items", {})] * count
                return [self.value(part, depth + 1) for part in parts]
            case "integer":
                return int(self.random.integers(int(low), int(high) + 1))
            case "number":
                return float(self.random.uniform(low, high))
            case "boolean":
                return bool(self.random.random() < 0.5)
            case "string":
                return "fedcba9876543210" * 2 if "pattern" in schema else "word"
        return None

    def named(self, name: str, schema: dict, depth: int = 0) -> Any:
        return self.known[name] if name in self.known and self.random.random() < 0.85 else self.value(schema, depth + 1)


def operations(api: dict) -> Iterator[tuple[str, str, dict]]:
    for path, methods in api["paths"].items():
        yield from (
            (method, path, operation) for method, operation in methods.items() if (method, path) not in LEFT_ALONE
        )


def as_text(value: Any) -> str:
    return str(value).encode("utf-8", "replace").decode()[:2_000]


def answer_to(http: httpx.Client, method: str, path: str, operation: dict, drawer: Drawer) -> tuple[int, str, str]:
    """Return status and text of the answer to one drawn request, and what was asked."""
    query: dict[str, str] = {}
    for parameter in operation.get("parameters", ()):
        name, value = parameter["name"], drawer.named(parameter["name"], parameter.get("schema", {}))
        if parameter["in"] == "path":
            path = path.replace(f"{{{name}}}", quote(as_text(value)[:200] or "x", safe=""))
        elif parameter.get("required") or drawer.random.random() < 0.6:
            query[name] = as_text(value)
    content = operation.get("requestBody", {}).get("content", {})
    asked: dict[str, Any] = {"params": query}
    if "application/json" in content:
        body = json.dumps(drawer.value(content["application/json"]["schema"]))
        asked |= {"content": body.encode(), "headers": {"content-type": "application/json"}}
    elif content:
        asked["files"] = {"file": (as_text(drawer.value({"type": "string"}))[:200], b"RIFF\x00")}
    what = f"{method} {path} {asked}"[:2_000]
    try:
        answer = http.request(method, path, **asked)
    except httpx.TransportError as error:
        raise AssertionError(f"no answer to {what}: {error!r}") from error
    return answer.status_code, answer.text, what


@pytest.mark.parametrize("seed", [1, 2])
def test_no_request_breaks_the_server_and_all_refusals_say_why(api, seed):
    state = session_with_track(api)
    state = edit(api, state, set_track(state, ledger=[bell()])).json()
    track = state["tracks"][0]
    drawer = Drawer(api.get("/openapi.json").json(), np.random.default_rng(seed))
    failed, answered = [], 0
    for method, path, operation in operations(drawer.api):
        for turn in range(PER_EDIT if path.endswith("/edits") else PER_OPERATION):
            if turn == 0 or path.endswith(HISTORY):  # what else is asked for changes no history
                now = api.get(f"/api/sessions/{state['id']}").json()
            history = (now["undo"] or now["redo"])["edit_id"]
            ids = {"session_id": state["id"], "track_id": track["id"], "strip_id": track["id"], "entry_id": "e1"}
            drawer.known = ids | {"audio_id": track["audio_id"], "of": history, "id": uuid.uuid4().hex}
            drawer.absurd = HOW_ABSURD[turn % len(HOW_ABSURD)]
            status, text, asked = answer_to(api, method, path, operation, drawer)
            answered += status < 300
            if status >= 500:
                failed.append(f"{status} to {asked}: {text[:300]}")
            elif status in (409, 422):
                assert len(json.loads(text)["message"]) > 10, asked
    assert not failed, f"{len(failed)}: {failed[:5]}"
    assert answered > 200  # most of them would otherwise stop at the door
    again = session_with_track(api)  # the server works as before
    assert edit(api, again, set_track(again, gain_db=-3)).status_code == 200


@pytest.mark.parametrize("seed", [1, 2])
def test_no_message_silences_the_monitor(mivlo: Running, http, seed):
    state = session_with_track(http, seconds=4.0)
    track = state["tracks"][0]
    schema = from_page.json_schema()
    drawer = Drawer({"components": {"schemas": schema["$defs"]}}, np.random.default_rng(seed))
    drawer.known = {"session_id": state["id"], "strip_id": track["id"], "track_id": track["id"], "revision": 1}
    play = {"do": "play", "epoch": EPOCH, "at_frame": 0, "session_id": state["id"], "revision": 1, "listening": {}}
    play = json.dumps(play)
    with connect(mivlo.monitor_url, origin=mivlo.url, max_size=None, proxy=None) as socket:
        refusals: list[str] = []
        for turn in range(150):
            drawer.absurd = HOW_ABSURD[turn % len(HOW_ABSURD)]
            drawn = play if turn % 10 == 0 else json.dumps(drawer.value(schema))
            socket.send(b"\x00binary" if turn % 25 == 7 else "no JSON {" if turn % 25 == 8 else drawn)
            with contextlib.suppress(TimeoutError):
                while turn % 5:  # else the next comes at once
                    told = socket.recv(timeout=0.05)
                    refusals += [told] if isinstance(told, str) and '"problem"' in told else []
        assert len(refusals) > 20
        assert all(len(json.loads(told)["message"]) > 10 for told in refusals)
        socket.send(play)
        sound = np.zeros(0)
        while len(sound) < 2_048:
            told = socket.recv(timeout=10)
            if isinstance(told, bytes) and np.frombuffer(told[:8], dtype="<f8")[0] == EPOCH:
                sound = np.concatenate([sound, np.frombuffer(told[40:], dtype="<f4")])
        assert np.isfinite(sound).all()
        assert np.abs(sound).max() > 0.01
