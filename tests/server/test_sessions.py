"""Sessions over HTTP on a real database: edits, history, several pages, who may ask, and what survives a kill."""

import json
import os
import signal
import subprocess
import sys
import time

import httpx
import numpy as np
import pytest
from websockets.exceptions import InvalidStatus
from websockets.sync.client import connect

from ..conftest import ROOT, start_mivlo
from .helpers import (
    bell,
    edit,
    finished,
    new_id,
    new_session,
    session_with_track,
    set_loop,
    set_track,
    step_back,
    upload,
    wav,
)


def read(http: httpx.Client, state: dict) -> dict:
    return http.get(f"/api/sessions/{state['id']}").json()


def test_the_demo_session_is_there_with_its_faults(demo):
    truth = json.loads((ROOT / "demo/truth.json").read_text())
    assert 8 <= len(demo["tracks"]) <= 10
    assert {fault["kind"] for fault in truth["faults"]} >= {
        "ring",
        "boom",
        "whistle",
        "harsh",
        "boxy",
        "plosive",
        "sibilance",
    }
    assert {fault["track"] for fault in truth["faults"]} <= {track["name"] for track in demo["tracks"]} | {"all"}
    for track in demo["tracks"]:
        assert 30 <= demo["audio"][track["audio_id"]]["n_frames"] / demo["sample_rate_hz"] <= 45
        assert (ROOT / "demo/tracks" / demo["audio"][track["audio_id"]]["original_name"]).stat().st_size < 4_000_000


def test_edits_undo_and_redo_without_limit(api):
    state = first = session_with_track(api)
    for gain in range(1, 41):
        state = edit(api, state, set_track(state, gain_db=-gain), label=f"Gain {gain}").json()
    assert state["undo"]["label"] == "Gain 40"
    for _ in range(40):
        state = step_back(api, state)
    assert state["tracks"] == first["tracks"]
    assert state["redo"]["label"] == "Gain 1"
    for _ in range(40):
        state = step_back(api, state, "redo")
    assert state["tracks"][0]["gain_db"] == -40
    assert state["redo"] is None
    state = step_back(api, state)
    state = edit(api, state, set_track(state, name="Other")).json()
    assert state["redo"] is None  # a new change forgets what could have been redone
    assert step_back(api, state)["tracks"][0]["name"] == "drum"


@pytest.mark.parametrize("seed", [1, 2])
def test_any_course_of_edits_undos_and_redos_follows_a_plain_list(api, seed):
    """The history against the simplest model there is: a list of states and a place in it."""
    random = np.random.default_rng(seed)
    state = session_with_track(api, seconds=0.1)
    states, at = [comparable(state)], 0
    for _ in range(60):
        way = random.choice(["edit", "edit", "undo", "redo"])
        if way == "edit":
            state = edit(api, state, random_step(state, random)).json()
            states, at = [*states[: at + 1], comparable(state)], at + 1
        elif way == "undo" and at > 0:
            state, at = step_back(api, state), at - 1
        elif way == "redo" and at + 1 < len(states):
            state, at = step_back(api, state, "redo"), at + 1
        assert comparable(state) == states[at]
        assert (state["redo"] is None) == (at + 1 == len(states))
    assert comparable(read(api, state)) == states[at]


def comparable(state: dict) -> dict:
    return {name: state[name] for name in ("name", "loop_start_frame", "loop_end_frame", "tracks")}


def random_step(state: dict, random: np.random.Generator) -> list[dict]:
    """Return some edit that is possible, and changes something."""
    value = round(float(random.uniform(-1, 1)), 6)
    ledger = [bell(f"e{n}", hz=float(random.integers(20, 20_000))) for n in range(random.integers(1, 4))]
    rename = {"do": "set-session", "fields": {"name": f"Name {value}"}, "seen": {"name": state["name"]}}
    choices = [
        [rename],
        [set_loop(int(random.integers(100)), 3_000 + int(1e6 * abs(value)))],
        set_track(state, pan=value, gain_db=10 * value),
        set_track(state, ledger=ledger, pins=[{"id": "p", "hz": 100.0 + value}]),
        set_track(state, gain_db=5 * value, start_frame=int(1_000 * abs(value))),
    ]
    return choices[random.integers(len(choices))]


def test_every_kind_of_step_can_be_taken_back(api):
    state = session_with_track(api)
    pin = {"id": "p", "hz": 431.0, "width_octaves": 0.25, "excess_db": 9.5}
    steps = [
        set_track(state, ledger=[bell(), bell("e2", hz=900.0, on=False)], pins=[pin], role="toms", pan=-0.5, solo=True),
        set_loop(480, 24_000),
        {"do": "set-session", "fields": {"name": "Renamed"}, "seen": {}},
        {"do": "remove-track", "track_id": state["tracks"][0]["id"]},
    ]
    changed = state
    for step in steps:
        changed = edit(api, changed, step).json()
    assert changed["tracks"] == []
    assert (changed["name"], changed["loop_end_frame"]) == ("Renamed", 24_000)
    back = step_back(api, changed)
    assert back["tracks"][0]["ledger"][0]["move"]["hz"] == 431.0
    for _ in range(3):
        back = step_back(api, back)
    assert {**back, "revision": 0, "redo": None} == {**state, "revision": 0}
    gone = step_back(api, back)
    assert gone["tracks"] == []  # the import, too, is a change


def test_two_pages_change_different_things_and_nothing_is_lost(api):
    """Both work on what they have seen; they meet only where they touch the same figure of the same thing."""
    seen = session_with_track(api)
    seen = edit(api, seen, set_track(seen, ledger=[bell("a"), bell("b", hz=900.0)])).json()
    a, b = seen["tracks"][0]["ledger"]
    on = {"strip_id": seen["tracks"][0]["id"]}

    def moved(entry: dict, gain_db: float) -> dict:
        move = {**entry["move"], "gain_db": gain_db}
        return {"do": "set-move", **on, "entry_id": entry["id"], "move": move, "seen": entry["move"]}

    one, other = moved(a, -1.0), moved(b, -2.0)
    for intents in ([one], [other], set_track(seen, gain_db=-3.0), set_track(seen, pan=0.5)):
        assert edit(api, seen, intents).status_code == 200
    now = read(api, seen)
    assert [entry["move"]["gain_db"] for entry in now["tracks"][0]["ledger"]] == [-1.0, -2.0]
    assert (now["tracks"][0]["gain_db"], now["tracks"][0]["pan"]) == (-3.0, 0.5)
    # The same thing from the other page: a clear answer, and the first one's figure stays.
    gone = {"do": "remove-move", **on, "entry_id": "a", "seen": a["move"]}
    late_ones = [
        ([moved(a, -9.0)], "bell: gain −9 instead of −1 dB was not taken"),
        (set_track(seen, gain_db=-9.0), "gain of drum"),
        ([gone], "was not removed"),
    ]
    for late, said in late_ones:
        refused = edit(api, seen, late)
        assert (refused.status_code, refused.json()["code"]) == (409, "conflict")
        assert said in refused.json()["message"]
    assert edit(api, seen, set_track(seen, gain_db=-3.0)).status_code == 200  # what is as wanted is no quarrel
    assert read(api, seen) == now
    assert edit(api, now, {**gone, "seen": now["tracks"][0]["ledger"][0]["move"]}).status_code == 200
    refused = edit(api, now, [moved(now["tracks"][0]["ledger"][0], -7.0)])
    assert (refused.status_code, "was removed" in refused.json()["message"]) == (409, True)


def test_an_edit_sent_twice_is_made_once_and_answered_alike(api):
    state = session_with_track(api)
    edit_id = new_id()
    first = edit(api, state, set_track(state, gain_db=-3), edit_id=edit_id)
    edit(api, state, set_track(first.json(), gain_db=-5))  # another page goes on
    again = edit(api, state, set_track(state, gain_db=-3), edit_id=edit_id)
    assert (again.body["edit_id"], again.body["revision"]) == (first.body["edit_id"], first.body["revision"])
    assert again.json()["tracks"][0]["gain_db"] == -5
    late = new_id()
    refused = edit(api, state, set_track(state, gain_db=-9), edit_id=late)
    edit(api, state, set_track(again.json(), gain_db=0))  # by now it would not be refused any more
    assert (edit(api, state, set_track(state, gain_db=-9), edit_id=late).body, refused.status_code) == (
        refused.body,
        409,
    )
    assert "another session" in edit(api, new_session(api), set_track(state, pan=0.1), edit_id=edit_id).text
    now = read(api, state)
    step = {"id": new_id(), "of": now["undo"]["edit_id"]}
    undone = [api.post(f"/api/sessions/{state['id']}/undo", json=step).json() for _ in range(3)]
    assert undone[0] == undone[1] == undone[2]
    stale = api.post(f"/api/sessions/{state['id']}/undo", json={**step, "id": new_id()})
    assert (stale.status_code, "another page" in stale.json()["message"]) == (409, True)


@pytest.mark.parametrize(
    ("fields", "said"),
    [
        ({"gain_db": 25}, "gain_db"), ({"pan": -1.2}, "pan"), ({"role": "kazoo"}, "role"), ({"name": ""}, "name"),
        ({"colour": 3}, "colour"), ({"ledger": [bell(q=1e9)]}, "q"), ({"ledger": [bell(), bell()]}, "is in the ledger"),
        ({"start_frame": -1}, "start_frame"), ({"pins": [{"id": "p", "hz": 5}]}, "hz"),
    ],
)  # fmt: skip
def test_absurd_figures_are_refused_and_change_nothing(api, fields, said):
    state = session_with_track(api, seconds=0.1)
    answer = edit(api, state, set_track(state, **fields))
    assert answer.status_code in (409, 422)
    assert said in answer.json()["message"]
    assert read(api, state) == state


def test_pages_on_one_session_hear_of_each_others_changes(http, mivlo):
    state = session_with_track(http)
    news = f"ws://127.0.0.1:{mivlo.port}/api/sessions/{state['id']}/news"
    with connect(news, proxy=None) as first, connect(news, proxy=None) as second:
        time.sleep(0.2)
        changed = edit(http, state, set_track(state, mute=True)).json()
        for socket in (first, second):
            assert json.loads(socket.recv(timeout=5))["revision"] == changed["revision"]


def test_foreign_hosts_and_origins_are_refused(http, mivlo):
    hosts = [{"host": "mixes.example"}, {"host": f"127.0.0.1:{mivlo.port + 7}"}]
    for headers in (*hosts, {"origin": "http://evil.example"}, {"origin": "null"}):
        assert http.get("/api/sessions", headers=headers).status_code == 403, headers
        assert http.post("/api/sessions", json={"name": "x"}, headers=headers).status_code == 403, headers
    assert http.get("/api/sessions", headers={"origin": mivlo.url}).status_code == 200
    for url in (mivlo.monitor_url, f"ws://127.0.0.1:{mivlo.port}/api/sessions/x/news"):
        with pytest.raises(InvalidStatus, match="403"):
            connect(url, origin="http://evil.example", proxy=None)
    with connect(mivlo.monitor_url, origin=mivlo.url, proxy=None):
        pass


def test_it_listens_on_loopback_only(mivlo):
    for words in ("server.app", "monitor.app"):
        inodes = {
            os.readlink(f"/proc/{mivlo.child(words)}/fd/{fd}") for fd in os.listdir(f"/proc/{mivlo.child(words)}/fd")
        }
        with open("/proc/net/tcp") as table:
            lines = [line.split() for line in table.readlines()[1:]]
        mine = [line[1] for line in lines if line[3] == "0A" and f"socket:[{line[9]}]" in inodes]
        assert mine
        assert all(address.startswith("0100007F:") for address in mine)


def test_a_second_mivlo_on_the_same_data_or_port_is_refused(mivlo):
    base = [
        sys.executable,
        "-m",
        "mivlo.server.run",
        "--web",
        str(ROOT / "web/dist"),
        "--demo-folder",
        str(ROOT / "demo"),
    ]
    for options, said in (
        (["--port", str(mivlo.port), "--data", str(mivlo.data)], f"port {mivlo.port} cannot be used"),
        (["--port", "29871", "--data", str(mivlo.data)], "is in use by another Mivlo"),
        (["--port", "29871", "--data", "/proc/nowhere"], "cannot be made"),
    ):
        done = subprocess.run([*base, *options], capture_output=True, text=True, check=False, timeout=30)
        assert done.returncode == 1
        assert said in done.stderr
        assert "Traceback" not in done.stderr


def edit_until_answered(http: httpx.Client, state: dict, **fields) -> dict:
    """Edit as a page does: under one id, again and again while the server is away."""
    deadline, edit_id = time.monotonic() + 30, new_id()
    while time.monotonic() < deadline:
        try:
            answer = edit(http, state, set_track(state, **fields), edit_id=edit_id)
        except (httpx.TransportError, json.JSONDecodeError):
            time.sleep(0.1)
            continue
        if answer.status_code == 503:
            time.sleep(0.1)
            continue
        assert answer.status_code == 200, answer.text
        return answer.json()
    raise AssertionError("the pages did not come back")


def test_killing_the_pages_process_between_edits_loses_nothing(http, mivlo):
    state = session_with_track(http)
    for round_number in range(3):
        state = edit_until_answered(http, state, gain_db=-1.0 - round_number)
        os.kill(mivlo.child("server.app"), signal.SIGKILL)
        state = edit_until_answered(http, state, pan=0.1 + 0.1 * round_number)
    assert (state["tracks"][0]["gain_db"], state["tracks"][0]["pan"]) == (-3.0, pytest.approx(0.3))
    for _ in range(6):
        state = step_back(http, state)
    assert (state["tracks"][0]["gain_db"], state["tracks"][0]["pan"]) == (0.0, 0.0)


def test_killing_everything_in_mid_work_loses_no_acknowledged_edit(scratch):
    running = start_mivlo(scratch / "killed", demo=False)
    with httpx.Client(base_url=running.url, timeout=60.0, trust_env=False) as http:
        state = session_with_track(http)
        for number in range(1, 26):
            state = edit(http, state, set_track(state, gain_db=-float(number))).json()
        running.stop(signal.SIGKILL)
    again = start_mivlo(scratch / "killed", demo=False)
    try:
        with httpx.Client(base_url=again.url, timeout=60.0, trust_env=False) as http:
            assert read(http, state) == state
            assert http.get("/api/sessions").json()[0]["is_demo"] is False
            assert upload(http, state["id"], "more.wav", wav(0.1)).status_code == 201
            assert step_back(http, read(http, state))["tracks"][0]["gain_db"] == -25.0
    finally:
        assert again.stop() == 0


def test_the_same_name_twice_is_two_sessions(api):
    assert new_session(api, "Twin")["id"] != new_session(api, "Twin")["id"]


def test_a_disk_that_takes_no_more_is_told_and_loses_nothing_saved(scratch):
    running = start_mivlo(scratch / "full", demo=False, largest_file_bytes=20 * 2**20)
    try:
        with httpx.Client(base_url=running.url, timeout=60.0, trust_env=False) as http:
            state = session_with_track(http, seconds=80.0)  # as floats 15 of the 20 MB
            state = edit(http, state, set_track(state, ledger=[bell()])).json()
            refused = upload(http, state["id"], "long.wav", wav(150.0, subtype="PCM_16"))
            assert refused.status_code in (422, 507)
            assert "File too large" in refused.json()["message"]
            assert len(list((running.data / "audio").iterdir())) == 1  # nothing half done stays behind
            asked = {"what": "mix", "output": "wav-float"}  # two channels of floats: 30 MB
            failed = http.post(f"/api/sessions/{state['id']}/handovers", json=asked).json()
            failed = finished(http, state["id"], failed["id"])
            assert failed["status"] == "failed"
            assert failed["message"].startswith("Test mix mivlo.wav: cannot be written (the disk takes no more of it")
            assert not (running.data / "handover" / failed["id"]).exists()
            assert read(http, state) == state
            assert upload(http, state["id"], "short.wav", wav(1.0)).status_code == 201
            request = {"what": "tracks", "track_ids": [state["tracks"][0]["id"]]}
            asked = http.post(f"/api/sessions/{state['id']}/handovers", json=request).json()
            assert finished(http, state["id"], asked["id"])["status"] == "done"
    finally:
        assert running.stop() == 0
