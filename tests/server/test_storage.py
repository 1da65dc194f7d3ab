"""What is taken on the disk, and what is free again after something was deleted; limits while a file arrives."""

import io
import json
import socket
import struct
import zipfile
from datetime import UTC, datetime, timedelta
from pathlib import Path

import numpy as np
import soundfile

from mivlo.server.db.engine import open_db
from mivlo.server.db.tables import SessionRow

from .helpers import analysed, edit, finished, new_session, session_with_track, set_loop, step_back, upload, wav

RATE = 48_000


def taken(folder: Path) -> int:
    """Return the bytes of all files that are not the database's."""
    parts = ("audio", "products", "handover", "incoming")
    return sum(file.stat().st_size for part in parts for file in (folder / part).rglob("*") if file.is_file())


def remove_track(state: dict) -> dict:
    return {"do": "remove-track", "track_id": state["tracks"][0]["id"]}


def test_fifty_times_in_looked_at_removed_and_deleted_leave_nothing(http, mivlo):
    session = new_session(http)
    before = taken(mivlo.data)
    for turn in range(50):
        state = upload(http, session["id"], "long.wav", wav(10.0, subtype="PCM_16", seed=turn)).json()
        audio_id = state["tracks"][0]["audio_id"]
        asked = {"strip_id": state["tracks"][0]["id"], "place": {"time_zoom": 4}}
        assert analysed(http, state, "picture", **asked)["bytes"] > 1_000
        beyond = analysed(http, state, "picture", **asked | {"place": {"time_zoom": 4, "column": 900}})
        assert (beyond.status_code, beyond.json()["code"]) == (404, "not-found")
        in_use = http.delete(f"/api/sessions/{session['id']}/audio/{audio_id}")
        assert (in_use.status_code, "remove that first" in in_use.text) == (409, True)
        edit(http, state, remove_track(state))
        (unused,) = http.get(f"/api/sessions/{session['id']}/storage").json()["unused"]
        freed = http.delete(f"/api/sessions/{session['id']}/audio/{audio_id}").json()
        assert freed["freed_bytes"] == unused["bytes"] > 2_000_000
    assert taken(mivlo.data) == before
    now = http.get(f"/api/sessions/{session['id']}").json()
    assert (now["undo"], now["redo"]) == (None, None)  # what could only be undone with the sound is forgotten


def test_a_deleted_session_comes_back_whole_from_the_shelf_until_its_time_is_over(api):
    state = session_with_track(api, seconds=0.2, seed=61)
    path = f"/api/sessions/{state['id']}"
    assert api.delete(path).json() == {"freed_bytes": 0}
    assert state["id"] not in {one["id"] for one in api.get("/api/sessions").json()}
    refused = api.get(path)
    assert (refused.status_code, "brought back from the shelf" in refused.json()["message"]) == (404, True)
    assert edit(api, state, set_loop(0, 100)).status_code == 404
    [shelved] = [one for one in api.get("/api/sessions/shelf").json() if one["id"] == state["id"]]
    assert shelved["bytes"] > 10_000
    days = datetime.fromisoformat(shelved["goes_at"]) - datetime.now(UTC)
    assert timedelta(days=6, hours=23) < days <= timedelta(days=7)
    assert api.post(f"{path}/unshelve").json() == state
    assert api.get(path).json() == state
    api.delete(path)
    with open_db() as db:  # in this very process
        db.get_one(SessionRow, state["id"]).shelved_at = datetime.now(UTC) - timedelta(days=7, minutes=1)
        db.commit()
    assert api.get("/api/sessions/shelf").json() == []
    assert api.post(f"{path}/unshelve").status_code == 404


def test_a_reference_is_kept_until_it_is_let_go(api):
    state = session_with_track(api, seconds=0.2)
    path = f"/api/sessions/{state['id']}"
    files = {"file": ("theirs.wav", wav(0.3, channels=2))}
    state = api.post(f"{path}/references", files=files).json()
    [reference] = state["references"]
    audio_id = reference["audio_id"]
    assert api.get(f"{path}/storage").json()["unused"] == []
    assert api.delete(f"{path}/audio/{audio_id}").status_code == 409
    state = edit(api, state, {"do": "remove-reference", "reference_id": reference["id"]}).json()
    assert step_back(api, state)["references"] == [reference]  # until its sound is deleted for good
    state = edit(api, state, {"do": "remove-reference", "reference_id": reference["id"]}).json()
    [unused] = api.get(f"{path}/storage").json()["unused"]
    assert unused["audio"]["id"] == audio_id
    assert api.delete(f"{path}/audio/{audio_id}").status_code == 200
    assert api.get(path).json()["undo"] is None


def test_what_came_back_of_a_track_stays_with_it(api):
    state = session_with_track(api, seconds=0.2)
    state = upload(api, state["id"], "back.wav", wav(0.2, seed=2)).json()
    track, back = state["tracks"]
    came_back = {"do": "came-back", "track_id": track["id"], "back_id": back["id"], "start_frame": -7,
                 "louder_db": 1.0, "holds_cuts": True}  # fmt: skip
    now = edit(api, state, came_back).json()
    assert [one["later"]["audio_id"] for one in now["tracks"]] == [back["audio_id"]]
    assert set(now["audio"]) == {track["audio_id"], back["audio_id"]}
    assert api.get(f"/api/sessions/{state['id']}/storage").json()["unused"] == []
    assert api.delete(f"/api/sessions/{state['id']}/audio/{back['audio_id']}").status_code == 409
    assert step_back(api, now)["tracks"] == state["tracks"]


def test_the_history_goes_on_after_the_sound_that_was_deleted(api):
    state = session_with_track(api, seconds=0.2)
    first = state["tracks"][0]["audio_id"]
    state = edit(api, state, remove_track(state)).json()
    state = upload(api, state["id"], "other.wav", wav(0.2)).json()
    fields = {"fields": {"name": "Other"}, "seen": {"name": state["name"]}}
    state = edit(api, state, {"do": "set-session", **fields}).json()
    api.delete(f"/api/sessions/{state['id']}/audio/{first}")
    state = step_back(api, step_back(api, api.get(f"/api/sessions/{state['id']}").json()))
    assert (state["tracks"], state["undo"]) == ([], None)
    assert len(step_back(api, state, "redo")["tracks"]) == 1


def test_a_session_goes_with_everything_of_it_and_no_other_is_touched(http, mivlo):
    other = session_with_track(http, seconds=1.0)
    before = taken(mivlo.data)
    state = session_with_track(http, seconds=2.0, seed=62)
    assert analysed(http, state, "suspects", strip_id=state["master"]["id"])
    assert len(analysed(http, state, "ensemble")["columns"]) == 1
    asked = http.post(f"/api/sessions/{state['id']}/handovers", json={"what": "mix"}).json()
    assert finished(http, state["id"], asked["id"])["status"] == "done"
    storage = http.get(f"/api/sessions/{state['id']}/storage").json()
    assert storage["handover_bytes"][asked["id"]] > 500_000
    freed = http.delete(f"/api/sessions/{state['id']}?for_good=true").json()
    assert freed["freed_bytes"] == storage["session_bytes"] > 1_000_000
    assert taken(mivlo.data) == before
    for gone in (f"sessions/{state['id']}", f"sessions/{state['id']}/storage", f"handovers/{asked['id']}/files/0"):
        assert http.get(f"/api/{gone}").status_code == 404
    assert http.delete(f"/api/sessions/{state['id']}?for_good=true").status_code == 404
    assert http.get(f"/api/sessions/{other['id']}").json() == other


def test_a_hand_over_of_one_file_is_a_zip_too_and_is_deleted_with_its_bytes(http, mivlo):
    state = session_with_track(http, seconds=1.0)
    asked = http.post(f"/api/sessions/{state['id']}/handovers", json={"what": "mix"}).json()
    assert finished(http, state["id"], asked["id"])["status"] == "done"
    archive = zipfile.ZipFile(io.BytesIO(http.get(f"/api/handovers/{asked['id']}/all").content))
    assert archive.namelist() == ["Test mix mivlo.wav"]
    assert http.get("/api/sessions").status_code == 200  # the connection goes on
    freed = http.delete(f"/api/handovers/{asked['id']}").json()
    assert freed["freed_bytes"] > 500_000
    assert not (mivlo.data / "handover" / asked["id"]).exists()
    assert http.get(f"/api/sessions/{state['id']}/handovers").json() == []


def begun_upload(mivlo, session_id: str, head: bytes, *, length: int) -> bytes:
    """Begin to send a file, no more than its first bytes, and return what is answered."""
    form = b'--b\r\nContent-Disposition: form-data; name="file"; filename="long.wav"\r\n\r\n'
    lines = [
        f"POST /api/sessions/{session_id}/tracks HTTP/1.1", f"Host: 127.0.0.1:{mivlo.port}", "Connection: close",
        "Content-Type: multipart/form-data; boundary=b", f"Content-Length: {length}", "", "",
    ]  # fmt: skip
    with socket.create_connection(("127.0.0.1", mivlo.port), timeout=10) as link:
        link.sendall("\r\n".join(lines).encode() + form + head)
        return b"".join(iter(lambda: link.recv(65_536), b""))


def test_what_is_too_much_is_refused_while_it_arrives_and_leaves_nothing(http, mivlo):
    session = new_session(http)
    before = taken(mivlo.data)
    data_bytes = 4 * 3_600 * RATE * 3
    fmt = struct.pack("<4sIHHIIHH", b"fmt ", 16, 1, 1, RATE, 3 * RATE, 3, 24)
    head = struct.pack("<4sI4s", b"RIFF", data_bytes + 36, b"WAVE") + fmt + struct.pack("<4sI", b"data", data_bytes)
    too_long = begun_upload(mivlo, session["id"], head + bytes(60_000), length=data_bytes)
    assert too_long.startswith(b"HTTP/1.1 413")
    assert b"240.0 minutes long; at most 180 minutes" in too_long
    assert b"too-large" in too_long
    too_big = begun_upload(mivlo, session["id"], b"", length=17 << 30)
    assert too_big.startswith(b"HTTP/1.1 413")
    assert b"16.0 GiB" in too_big
    flac = io.BytesIO()
    soundfile.write(flac, np.zeros(RATE), RATE, format="FLAC")
    claimed = bytearray(flac.getvalue())
    streaminfo = (RATE << 44) | (15 << 36) | (RATE * 11_000)  # RFC 9639, 8.2: rate, channels, bits, frames
    claimed[18:26] = streaminfo.to_bytes(8, "big")
    refused = upload(http, session["id"], "claims.flac", bytes(claimed))
    assert (refused.status_code, refused.json()["code"]) == (413, "too-large")
    for nonsense in (b"", b"--b", b"--b\r\nwrong"):
        headers = {"content-type": "multipart/form-data; boundary=b"}
        answer = http.post(f"/api/sessions/{session['id']}/tracks", content=nonsense, headers=headers)
        assert (answer.status_code, answer.json()["code"]) == (422, "bad-parameter")
    assert taken(mivlo.data) == before
    assert list((mivlo.data / "incoming").iterdir()) == []


def test_addresses_and_answers_are_what_they_say(api):
    missing = api.get("/api/nothing/here")
    assert (missing.status_code, missing.json()["code"]) == (404, "not-found")
    page = api.get("/session/anything")
    assert page.status_code == 200
    assert page.headers["x-frame-options"] == "DENY"
    assert page.headers["x-content-type-options"] == "nosniff"
    assert "default-src 'self'" in page.headers["content-security-policy"]
    assert json.loads(api.get("/api/about").text)["version"]
