"""Suspects over HTTP: found, answered, measured again, kept, dismissed, undone."""

import os
import signal
import time
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from pathlib import Path

import numpy as np
import soundfile
from scipy.signal import lfilter

from mivlo.core.filters.matched import plain_bell

from ..core.phrases import phrase
from .helpers import RATE, edit, new_session, set_track, step_back, upload

HZ = 1_130.0


def ringing_fiddle(http, tmp_path) -> dict:
    clean, _ = phrase(40, (60, 64, 67, 62, 65, 69, 71, 67, 64, 60, 62, 66, 70, 68))
    s = plain_bell(HZ, 14.0, 20.0, sample_rate_hz=48_000)
    x = lfilter([s.b0, s.b1, s.b2], [1.0, s.a1, s.a2], clean, axis=1)
    soundfile.write(tmp_path / "fiddle.wav", 0.4 * x.T / np.abs(x).max(), 48_000, subtype="PCM_24")
    session = new_session(http)
    return upload(http, session["id"], "fiddle.wav", (tmp_path / "fiddle.wav").read_bytes()).json()


def suspects(http, state: dict, end_s: float = 7.0, strip: str | None = None):
    address = f"/api/sessions/{state['id']}/strips/{strip or state['tracks'][0]['id']}/suspects"
    return http.get(address, params={"start_s": 0.0, "end_s": end_s})


def near(found: dict) -> list[dict]:
    return [one for one in found["suspects"] if abs(1_200 * np.log2(one["hz"] / HZ)) < 60]


def test_a_suspect_is_found_cut_measured_again_and_undone(api, tmp_path):
    state = ringing_fiddle(api, tmp_path)
    assert state["sample_rate_hz"] == RATE
    suspect = near(suspects(api, state).json())[0]
    assert suspect["sentence"]
    assert suspect["around_hz"][0] < HZ < suspect["around_hz"][-1]
    assert suspect["proposed"] in ("cut", "tame")
    move = {**suspect["cut"], "gain_db": -14.0, "q": 20.0, "hz": HZ}
    entry = {"id": "c1", "move": move, "reason": suspect["sentence"], "evidence": suspect["evidence"]}
    cut = edit(api, state, set_track(state, ledger=[entry])).json()
    assert cut["tracks"][0]["ledger"][0]["evidence"]["kind"] == suspect["kind"]
    address = f"/api/sessions/{state['id']}/strips/{state['tracks'][0]['id']}/cures/c1"
    cure = api.get(address).json()
    assert cure["verdict"] == "cured", cure
    assert cure["excess_after_db"] < cure["excess_before_db"] - 6
    off = edit(api, cut, set_track(cut, ledger_on=False)).json()
    assert api.get(address).json()["verdict"] == "not yet"
    back = step_back(api, off)
    assert back["tracks"][0]["ledger_on"]
    assert api.get(address.replace("c1", "c2")).status_code == 404
    # Any move tells how much it takes of the track's own sound around it; a low cut is meant to take all.
    by_hand = {
        "narrow": {"kind": "bell", "hz": HZ, "gain_db": -14.0, "q": 20.0},
        "wide": {"kind": "bell", "hz": HZ, "gain_db": -24.0, "q": 0.7},
        "elsewhere": {"kind": "bell", "hz": HZ, "gain_db": -24.0, "q": 0.7, "times_s": [[1.0, 2.0]]},
        "lows": {"kind": "low-cut", "hz": 200.0},
    }
    over = {}
    for name, figures in by_hand.items():
        now = api.get(f"/api/sessions/{state['id']}").json()
        edit(api, now, set_track(now, ledger=[{"id": name, "move": figures}]))
        told = api.get(address.replace("cures/c1", f"losses/{name}")).json()
        over[name] = told and told["over_cut"]
    assert over == {"narrow": False, "wide": True, "elsewhere": True, "lows": None}


def test_what_is_wanted_or_no_fault_is_not_told_again(api, tmp_path):
    state = ringing_fiddle(api, tmp_path)
    assert near(suspects(api, state).json())
    kept = edit(api, state, set_track(state, keepers=[{"low_hz": 1_050, "high_hz": 1_220}])).json()
    assert not near(suspects(api, kept).json())
    free = edit(api, kept, set_track(kept, keepers=[])).json()
    dismissed = edit(api, free, set_track(free, dismissed=[{"hz": HZ * 1.01, "wide": False}])).json()
    told = suspects(api, dismissed).json()
    assert not near(told)
    assert told["n_dismissed"] == 1
    back = step_back(api, dismissed)
    assert near(suspects(api, back).json())
    assert near(suspects(api, back, strip=back["master"]["id"]).json())  # the mix is hunted like a track


def test_wrong_questions_get_clear_answers(api, tmp_path):
    state = ringing_fiddle(api, tmp_path)
    address = f"/api/sessions/{state['id']}/strips/{state['tracks'][0]['id']}/suspects"
    beyond = api.get(address, params={"start_s": 50, "end_s": 60})
    assert beyond.status_code == 422
    assert "no sound" in beyond.json()["message"]
    assert suspects(api, state, strip="nobody").status_code == 404
    assert suspects(api, state, end_s=-1.0).status_code == 422


def test_what_is_looked_at_beside_the_track_treated_difference_pitch_and_sections(api, tmp_path):
    state = ringing_fiddle(api, tmp_path)
    track = state["tracks"][0]
    strip = f"/api/sessions/{state['id']}/strips/{track['id']}"
    bell = {"kind": "bell", "hz": HZ, "gain_db": -14.0, "q": 20.0, "times_s": [[0.0, 2.0]]}
    section = {"id": "s1", "name": "Verse", "start_frame": 0, "end_frame": 2 * RATE}
    limited = set_track(state, ledger=[{"id": "c1", "move": bell}])
    named = edit(api, state, limited, {"do": "add-section", "section": section}).json()
    assert named["sections"] == [section]
    treated = api.get(f"{strip}/treated").json()
    assert treated["n_frames"] == state["audio"][track["audio_id"]]["n_frames"]

    def level(audio: str, start_s: int, end_s: int) -> np.ndarray:
        asked = {"start": start_s * RATE, "end": end_s * RATE, "sample_rate_hz": RATE}
        return np.array(api.get(f"/api/audio/{audio}/spectrum", params=asked).json()["level_db"])

    levels = [level(audio, *span) for span in ((0, 2), (3, 6)) for audio in (track["audio_id"], treated["audio_id"])]
    assert np.max(levels[0] - levels[1]) > 10  # within its times
    assert np.max(np.abs(levels[2] - levels[3])) < 1e-6  # outside them
    address = f"/api/audio/{treated['audio_id']}/difference/{track['audio_id']}/8/0/0/0.png"
    picture = api.get(address, params={"sample_rate_hz": RATE})
    assert picture.headers["content-type"] == "image/png"
    pitch = api.get(f"{strip}/pitch").json()
    assert pitch["one_voice"]
    assert 300 < np.median([hz for hz in pitch["hz"] if hz]) < 530
    wrong = edit(api, named, {"do": "add-section", "section": {**section, "end_frame": 0}})
    assert wrong.status_code == 422
    assert "must end (frame 0) after it starts (frame 0)" in wrong.json()["message"]
    back = step_back(api, named)
    assert back["sections"] == []


def children(process: int, words: str = "") -> list[int]:
    """Return the processes that one has started; read from /proc, which costs no time in which they could end."""
    listed = [
        pid for task in Path(f"/proc/{process}/task").iterdir() for pid in (task / "children").read_text().split()
    ]
    return [int(pid) for pid in listed if words in Path(f"/proc/{pid}/cmdline").read_text()]


def test_killed_analysis_processes_are_told_of_and_made_anew(http, mivlo, tmp_path):
    x = 0.1 * np.random.default_rng(3).standard_normal((180 * RATE, 2))
    soundfile.write(tmp_path / "long.wav", x, RATE, subtype="PCM_16")
    state = upload(http, new_session(http)["id"], "long.wav", (tmp_path / "long.wav").read_bytes()).json()
    pages = mivlo.child("server.app")
    with ThreadPoolExecutor(1) as beside:
        waiting = beside.submit(suspects, http, state, 180.0)
        while not waiting.done():
            with suppress(ProcessLookupError, FileNotFoundError):  # gone since it was listed
                for fork_server in children(pages, "forkserver"):
                    for worker in children(fork_server):
                        os.kill(worker, signal.SIGKILL)
            time.sleep(0.005)
        answer = waiting.result()
    assert answer.status_code == 503
    assert answer.json()["code"] == "process-ended"
    assert "nothing saved is lost" in answer.json()["message"]
    assert suspects(http, state, 20.0).status_code == 200
