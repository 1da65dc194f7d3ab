"""What several server tests need: sessions, files, edits."""

import io
import time

import httpx
import numpy as np
import soundfile

RATE = 48_000


def wav(
    seconds: float = 1.0, *, rate: int = RATE, channels: int = 1, seed: int = 1, subtype: str = "PCM_24", silence_s: float = 0.0
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


def session_with_track(http: httpx.Client, **kind) -> dict:
    session = new_session(http)
    answer = upload(http, session["id"], "drum.wav", wav(**kind), role="kick")
    assert answer.status_code == 201, answer.text
    return answer.json()


def edit(http: httpx.Client, state: dict, *steps: dict, label: str = "Change") -> httpx.Response:
    body = {"base_revision": state["revision"], "label": label, "steps": list(steps)}
    return http.post(f"/api/sessions/{state['id']}/edits", json=body)


def set_track(state: dict, index: int = 0, **fields) -> dict:
    return {"do": "edit-track", "track_id": state["tracks"][index]["id"], "fields": fields}


def bell(entry_id: str = "e1", **figures) -> dict:
    return {"id": entry_id, "move": {"kind": "bell", "hz": 431.0, "gain_db": -6.0, "q": 8.0, **figures}}


def finished(http: httpx.Client, session_id: str, handover_id: str, seconds: float = 60.0) -> dict:
    deadline = time.monotonic() + seconds
    while time.monotonic() < deadline:
        listed = http.get(f"/api/sessions/{session_id}/handovers").json()
        one = next(one for one in listed if one["id"] == handover_id)
        if one["status"] not in ("waiting", "running"):
            return one
        time.sleep(0.1)
    raise AssertionError(f"hand-over {handover_id} did not end within {seconds} s")
