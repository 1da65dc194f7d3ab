"""What happens when something is killed or frozen from outside: it comes back by itself, and nobody waits for good."""

import os
import signal
import subprocess
import sys
import threading
import time
from concurrent.futures import ThreadPoolExecutor

import httpx
import pytest

from mivlo.server import run

from ..conftest import ROOT, free_pair_of_ports, start_mivlo
from .helpers import client_of, edit, finished, new_id, session_with_track, set_track, step_back
from .test_sessions import edit_until_answered, read


def until(condition, seconds: float = 30.0) -> None:
    deadline = time.monotonic() + seconds
    while not condition():
        assert time.monotonic() < deadline
        time.sleep(0.05)


@pytest.fixture(scope="module")
def own(scratch):
    """Return a Mivlo of its own that waits for its database for two seconds at most."""
    running = start_mivlo(scratch / "healing", demo=False, statement_s=1.0, connect_s=2)
    yield running
    assert running.stop() == 0
    assert "Traceback" not in running.log.read_text(), running.log.read_text()


@pytest.fixture(scope="module")
def client(own):
    with httpx.Client(base_url=own.url, timeout=60.0, trust_env=False) as http:
        yield http


def test_a_killed_database_comes_back_and_no_edit_is_lost_or_made_twice(own, client):
    state = session_with_track(client, seconds=20.0)
    for turn in range(3):
        before = own.postmaster()
        os.kill(before, signal.SIGKILL)
        state = edit_until_answered(client, state, gain_db=-1.0 - turn)
        until(lambda before=before: own.postmaster() != before)
    for gain_db in (-2.0, -1.0, 0.0):
        state = step_back(client, state)
        assert state["tracks"][0]["gain_db"] == gain_db
    asked = client.post(f"/api/sessions/{state['id']}/handovers", json={"what": "mix"}).json()
    assert finished(client, state["id"], asked["id"])["status"] == "done"
    # The news of changes are heard again, too: what is saved now is played by who is playing.
    saved = threading.Timer(0.2, lambda: edit(client, state, set_track(state, gain_db=-9.0)))
    saved.start()
    played = client_of(own).play(state, {"strip_id": state["tracks"][0]["id"]}, n_frames=18 * 48_000)
    saved.join()
    assert played.mixes()[-1][1].tracks[0].gain_db == -9.0


def test_a_frozen_database_keeps_nobody_waiting_for_good_and_play_goes_on(own, client):
    state = session_with_track(client, seconds=5.0)
    postmaster = own.postmaster()
    listed = subprocess.run(["ps", "--ppid", str(postmaster), "-o", "pid="], capture_output=True, text=True, check=True)
    frozen = [postmaster, *map(int, listed.stdout.split())]
    client_of(own).play(state, {}, n_frames=4_800)  # the session is held from now on
    for process in frozen:
        os.kill(process, signal.SIGSTOP)
    try:
        began = time.monotonic()
        with ThreadPoolExecutor(8) as many:
            answers = list(many.map(lambda _: client.get(f"/api/sessions/{state['id']}"), range(8)))
        assert {answer.status_code for answer in answers} == {503}
        assert {answer.json()["code"] for answer in answers} == {"no-database"}
        assert time.monotonic() - began < 20.0
        assert client_of(own).play(state, {"dim": True}, n_frames=48_000).n_frames >= 48_000
    finally:
        for process in reversed(frozen):
            os.kill(process, signal.SIGCONT)
    until(lambda: client.get(f"/api/sessions/{state['id']}").status_code == 200)
    assert read(client, state) == state


def test_what_dies_again_and_again_is_started_with_pauses_that_grow(monkeypatch):
    now = [100.0]
    monkeypatch.setattr(run.time, "monotonic", lambda: now[0])
    pauses, waited = run.Pauses(), []
    for _ in range(9):
        began = now[0]
        while not pauses.is_due():
            now[0] += 0.1
        pauses.began()
        waited.append(now[0] - began)
    assert waited == sorted(waited)
    assert waited[0] < 0.5
    assert waited[-1] == pytest.approx(run.LONGEST_PAUSE_S, abs=0.2)
    now[0] += run.CALM_S + 1.0  # it has lived for a while: the next time is like the first
    began = now[0]
    while not pauses.is_due():
        now[0] += 0.1
    assert now[0] - began < 0.5


def test_a_port_on_which_another_one_is_just_starting_is_refused(scratch):
    port = free_pair_of_ports()
    command = [sys.executable, "-m", "mivlo.server.run", "--port", str(port), "--data", str(scratch / "second")]
    with run.own_port(port + 1):
        again = subprocess.run(
            [*command, "--web", str(ROOT / "web/dist")], capture_output=True, text=True, timeout=60, check=False
        )
    assert again.returncode == 1
    assert f"port {port + 1} cannot be used" in again.stderr
    with run.own_port(port), run.own_port(port + 1):
        pass  # and free again


def test_what_killed_processes_left_is_swept_at_the_start(scratch):
    running = start_mivlo(scratch / "swept", demo=False)
    with httpx.Client(base_url=running.url, timeout=60.0, trust_env=False) as http:
        state = session_with_track(http)
    running.stop(signal.SIGKILL)
    kept = running.data / "audio" / state["tracks"][0]["audio_id"]
    left = [running.data / name for name in (
        "incoming/half", "audio/.part/x", f"audio/{new_id()}/original", f"ensemble/{new_id()}/a.npz", "handover/gone/0",
    )]  # fmt: skip
    for path in left:
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(b"half")
    again = start_mivlo(scratch / "swept", demo=False)
    assert [path for path in left if path.exists()] == []
    assert (kept / "original").is_file()
    assert again.stop() == 0
