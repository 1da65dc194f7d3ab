"""What is computed by processes of their own: killed ones lose and double nothing, and what breaks one is told."""

import json
import os
import signal
import time

import httpx
import numpy as np
import psycopg
import pytest

from mivlo.core.analyses.registry import foreseen
from mivlo.server.db.cluster import Cluster
from mivlo.server.services.state import SessionState

from ..conftest import Running, start_mivlo
from .helpers import RATE, analysed, edit, new_session, upload, wav, with_tracks
from .test_healing import until


@pytest.fixture(scope="module")
def own(scratch):
    running = start_mivlo(scratch / "products", demo=False, foresees=True)
    yield running
    assert running.stop() == 0


def workers(mivlo: Running) -> list[int]:
    jobs = mivlo.child("jobs.worker")
    with open(f"/proc/{jobs}/task/{jobs}/children") as listed:
        return [int(pid) for pid in listed.read().split()]


def client(mivlo: Running) -> httpx.Client:
    return httpx.Client(base_url=mivlo.url, timeout=60.0, trust_env=False)


def heard_all(http, state: dict) -> bool:
    """Tell whether all is listened to that the session needs as it is now."""
    told = http.get(f"/api/sessions/{state['id']}/listening").json()
    return told["done"] == told["of"] == sum(1 for _ in foreseen(SessionState.model_validate(state)))


def all_asked(http, state: dict) -> dict[tuple[str, str], object]:
    """Ask for all that is foreseen, once; return what is there at once, by what was asked."""
    answers = {}
    for analysis, asked, _ in foreseen(SessionState.model_validate(state)):
        body = asked.model_dump(mode="json")
        answer = http.post(f"/api/sessions/{state['id']}/analyses/{analysis.name}", json=body).json()
        assert answer["status"] == "done", (analysis.name, answer)
        answers[analysis.name, json.dumps(body)] = answer["result"]
    return answers


def test_a_worker_that_is_killed_loses_and_doubles_nothing_and_a_restart_computes_nothing(scratch):
    data = scratch / "restarted"

    def files() -> dict:
        return {path: path.stat().st_mtime_ns for path in (data / "products").rglob("*")}

    with start_mivlo(data, demo=False, foresees=True) as mivlo, client(mivlo) as http:
        state = with_tracks(http, 20.0, 30.0, 25.0)
        for _ in range(3):
            until(lambda: len(workers(mivlo)) == 3)  # two, and one for whoever waits
            time.sleep(0.7)
            os.kill(workers(mivlo)[0], signal.SIGKILL)
        until(lambda: heard_all(http, state), 240.0)
        killed = all_asked(http, state)
        computed = files()
    with start_mivlo(data, demo=False, foresees=True) as mivlo, client(mivlo) as http:
        began = time.monotonic()
        assert all_asked(http, state) == killed
        assert time.monotonic() - began < 3.0
        assert files() == computed
    # Without anybody killed, by one worker: the same, to the last digit.
    alone = {"foresees": False, "workers": 1, "product_bytes": 0}
    with start_mivlo(data, demo=False, **alone) as mivlo, client(mivlo) as http:
        for (name, body), answer in killed.items():
            assert analysed(http, state, name, **json.loads(body)) == answer


def test_what_ends_its_process_again_and_again_is_told_and_the_rest_goes_on(own):
    with client(own) as http:
        session = new_session(http)
        data = wav(180.0, channels=2, subtype="PCM_16")
        state = upload(http, session["id"], "long.wav", data).json()
        asked = {"strip_id": state["tracks"][0]["id"]}
        path = f"/api/sessions/{state['id']}/analyses/suspects"
        killed, until_s = 0, time.monotonic() + 150.0
        while (answer := http.post(path, json=asked)).status_code == 200:
            assert time.monotonic() < until_s, "it is tried for good"
            if answer.json()["status"] == "running":
                for worker in workers(own):
                    os.kill(worker, signal.SIGKILL)
                killed += 1
                time.sleep(0.3)
            time.sleep(0.02)
        assert (answer.status_code, answer.json()["code"]) == (503, "process-ended")
        assert "nothing saved is lost" in answer.json()["message"]
        assert killed >= 3
        assert analysed(http, state, "suspects", **asked, end_s=20.0)["suspects"] is not None


def test_what_is_computed_while_the_databases_disk_is_full_is_kept_once_there_is_room(own):
    """A job that failed on that would be gone, and its product would wait for good."""
    port = int((own.data / "database/cluster/postmaster.pid").read_text().split("\n")[3])
    password = json.loads((own.data / "database/cluster.json").read_text())["password"]
    address = Cluster(own.data / "database", port, password).url.replace("postgresql+psycopg://", "postgresql://")
    with client(own) as http, psycopg.connect(address, autocommit=True) as database:
        state = with_tracks(http, 4.0, 5.0)
        until(lambda: http.get(f"/api/sessions/{state['id']}/listening").json()["done"], 30.0)
        database.execute(
            "CREATE FUNCTION no_room() RETURNS trigger LANGUAGE plpgsql AS "
            "$$ BEGIN RAISE EXCEPTION 'could not extend file' USING ERRCODE = 'disk_full'; END $$"
        )
        for which in ("WHEN (NEW.status = 'done')", ""):  # where something ends, then where it begins, too
            refused = f"CREATE TRIGGER no_room BEFORE UPDATE ON product FOR EACH ROW {which} EXECUTE FUNCTION no_room()"
            database.execute(refused)
            before = http.get(f"/api/sessions/{state['id']}/listening").json()["done"]
            time.sleep(2.5)
            assert http.get(f"/api/sessions/{state['id']}/listening").json()["done"] == before
            [(n_running,)] = database.execute("SELECT count(*) FROM product WHERE status = 'running'").fetchall()
            assert n_running <= len(workers(own))  # each keeps what it has computed
            database.execute("DROP TRIGGER no_room ON product")
        until(lambda: heard_all(http, state), 60.0)
        all_asked(http, state)


def test_a_sound_that_is_deleted_takes_along_what_was_made_of_it(own):
    with client(own) as http:
        state = with_tracks(http, 3.0, 3.0)
        until(lambda: heard_all(http, state), 60.0)
        gone = state["tracks"][0]
        stays = analysed(http, state, "waveform", strip_id=state["tracks"][1]["id"])
        edit(http, state, {"do": "remove-track", "track_id": gone["id"]})
        freed = http.delete(f"/api/sessions/{state['id']}/audio/{gone['audio_id']}").json()["freed_bytes"]
        assert freed > 3 * RATE * np.float32().itemsize * 2  # its sound, its original, its picture, its maps
        assert analysed(http, state, "waveform", strip_id=state["tracks"][1]["id"]) == stays
