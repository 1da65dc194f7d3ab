"""What several server tests need: sessions, files, edits."""

import io
import itertools
import time
import uuid

import httpx
import numpy as np
import soundfile
from sqlalchemy import select

from mivlo.server.db.engine import open_db
from mivlo.server.db.tables import ProductRow

from ..conftest import Running
from ..monitor_client import MonitorClient

RATE = 48_000
SEEDS = itertools.count(1_000)


def wav(
    seconds: float = 1.0,
    *,
    rate: int = RATE,
    channels: int = 1,
    seed: int = 1,
    subtype: str = "PCM_24",
    silence_s: float = 0.0,
) -> bytes:
    out = io.BytesIO()
    x = 0.1 * np.random.default_rng(seed).standard_normal((round(seconds * rate), channels))
    x = np.pad(x, ((0, round(silence_s * rate)), (0, 0)))
    soundfile.write(out, x, rate, subtype=subtype, format="WAV")
    return out.getvalue()


def new_session(http: httpx.Client, name: str = "Test", rate: int = RATE) -> dict:
    answer = http.post("/api/sessions", json={"name": name, "sample_rate_hz": rate})
    assert answer.status_code == 201
    return answer.json()


def upload(http: httpx.Client, session_id: str, name: str, data: bytes, **fields: str) -> httpx.Response:
    return http.post(f"/api/sessions/{session_id}/tracks", files={"file": (name, data)}, data=fields)


def session_with_track(http: httpx.Client, *, role: str = "kick", **kind) -> dict:
    session = new_session(http)
    answer = upload(http, session["id"], "drum.wav", wav(**kind), role=role)
    assert answer.status_code == 201, answer.text
    return answer.json()


def new_id() -> str:
    return uuid.uuid4().hex


class Answer:
    """The answer to an edit; of one that was made, what counts is the session."""

    def __init__(self, answer: httpx.Response) -> None:
        self.status_code, self.text, self.body = answer.status_code, answer.text, answer.json()

    def json(self) -> dict:
        return self.body["session"] if self.status_code == 200 else self.body


def edit(
    http: httpx.Client, state: dict, *intents: dict | list[dict], label: str = "Change", edit_id: str = ""
) -> Answer:
    flat = [one for some in intents for one in (some if isinstance(some, list) else [some])]
    body = {"id": edit_id or new_id(), "label": label, "intents": flat}
    return Answer(http.post(f"/api/sessions/{state['id']}/edits", json=body))


def step_back(http: httpx.Client, state: dict, way: str = "undo") -> dict:
    """Undo, or redo, what the state says comes next."""
    body = {"id": new_id(), "of": state[way]["edit_id"]}
    answer = http.post(f"/api/sessions/{state['id']}/{way}", json=body)
    assert answer.status_code == 200, answer.text
    return answer.json()["session"]


def set_track(state: dict, index: int = 0, **fields) -> list[dict]:
    return set_strip(state["tracks"][index], **fields)


def set_strip(strip: dict, **fields) -> list[dict]:
    """Return the intents that make a strip so."""
    intents: list[dict] = []
    on = {"strip_id": strip["id"]}
    if "ledger" in fields:
        gone = [{"do": "remove-move", **on, "entry_id": one["id"], "seen": one["move"]} for one in strip["ledger"]]
        intents += [*gone, *({"do": "add-move", **on, "entry": entry} for entry in fields.pop("ledger"))]
    if "pins" in fields:
        gone = [{"do": "remove-pin", **on, "pin_id": pin["id"]} for pin in strip["pins"]]
        intents += [*gone, *({"do": "add-pin", **on, "pin": pin} for pin in fields.pop("pins"))]
    if "keepers" in fields:
        gone = [{"do": "remove-keeper", **on, "keeper": one} for one in strip["keepers"]]
        intents += [*gone, *({"do": "add-keeper", **on, "keeper": one} for one in fields.pop("keepers"))]
    for place in fields.pop("dismissed", []):
        q = 1.0 if place.get("wide") else 10.0
        intents.append({"do": "answer-suspect", **on, "answer": "not-a-fault", "hz": place["hz"], "q": q})
    for_ledger = {name: fields.pop(name) for name in ("ledger_on", "phase") if name in fields}
    if for_ledger:
        intents.append({"do": "set-ledger", **on, "fields": for_ledger, "seen": {n: strip[n] for n in for_ledger}})
    if fields:
        kind = strip["kind"]
        seen = {name: strip[name] for name in fields if name in strip}
        intents.append({"do": f"set-{kind}", f"{kind}_id": strip["id"], "fields": fields, "seen": seen})
    return intents


def set_loop(start_frame: int | None, end_frame: int | None) -> dict:
    return {"do": "set-loop", "start_frame": start_frame, "end_frame": end_frame}


def client_of(mivlo: Running) -> MonitorClient:
    return MonitorClient(mivlo.monitor_url, mivlo.url)


def bell(entry_id: str = "e1", **figures) -> dict:
    return {"id": entry_id, "move": {"kind": "bell", "hz": 431.0, "gain_db": -6.0, "q": 8.0, **figures}}


def analysed(http: httpx.Client, state: dict, name: str, *, seconds: float = 60.0, **asked):
    """Ask for an analysis until it is there; return what is shown, or the answer that refuses it."""
    deadline = time.monotonic() + seconds
    while time.monotonic() < deadline:
        answer = http.post(f"/api/sessions/{state['id']}/analyses/{name}", json=asked)
        if answer.status_code != 200:
            return answer
        if answer.json()["status"] == "done":
            return answer.json()["result"]
        time.sleep(0.02)
    raise AssertionError(f"{name} was not there within {seconds} s")


def finished(http: httpx.Client, session_id: str, handover_id: str, seconds: float = 60.0) -> dict:
    deadline = time.monotonic() + seconds
    while time.monotonic() < deadline:
        listed = http.get(f"/api/sessions/{session_id}/handovers").json()
        one = next(one for one in listed if one["id"] == handover_id)
        if one["status"] not in ("waiting", "running"):
            return one
        time.sleep(0.1)
    raise AssertionError(f"hand-over {handover_id} did not end within {seconds} s")


def with_tracks(http, *seconds: float) -> dict:
    """Make a session of sound that no other one has: of the same files, nothing is computed twice."""
    session = new_session(http)
    for at, length in enumerate(seconds):
        answer = upload(http, session["id"], f"track {at}.wav", wav(length, seed=next(SEEDS)))
        assert answer.status_code == 201, answer.text
    return answer.json()


def rows(state: dict) -> list[ProductRow]:
    with open_db() as db:
        query = select(ProductRow).where(ProductRow.session_id == state["id"])
        return list(db.scalars(query.order_by(ProductRow.ended_at)))
