"""Suspects over HTTP: found, answered, measured again, kept, dismissed, undone."""

import io

import numpy as np
import soundfile
from PIL import Image
from scipy.signal import lfilter

from mivlo.core.filters.matched import plain_bell

from ..core.phrases import phrase
from .helpers import RATE, analysed, edit, new_session, set_track, step_back, upload

HZ = 1_130.0


def ringing_fiddle(http, tmp_path) -> dict:
    clean, _ = phrase(40, (60, 64, 67, 62, 65, 69, 71, 67, 64, 60, 62, 66, 70, 68))
    s = plain_bell(HZ, 14.0, 20.0, sample_rate_hz=48_000)
    x = lfilter([s.b0, s.b1, s.b2], [1.0, s.a1, s.a2], clean, axis=1)
    soundfile.write(tmp_path / "fiddle.wav", 0.4 * x.T / np.abs(x).max(), 48_000, subtype="PCM_24")
    session = new_session(http)
    return upload(http, session["id"], "fiddle.wav", (tmp_path / "fiddle.wav").read_bytes()).json()


def suspects(http, state: dict, end_s: float = 7.0, strip: str | None = None):
    return analysed(http, state, "suspects", strip_id=strip or state["tracks"][0]["id"], end_s=end_s)


def ink(http, state: dict, strip_id: str, shows: str) -> np.ndarray:
    """Return the ink of a spectrogram, 0 to 255, low frequencies at the foot."""
    asked = {"strip_id": strip_id, "shows": shows, "place": {"time_zoom": 6}}
    analysed(http, state, "picture", **asked)
    product = http.post(f"/api/sessions/{state['id']}/analyses/picture", json=asked).json()["id"]
    answer = http.get(f"/api/products/{product}/picture.png")
    assert answer.headers["content-type"] == "image/png"
    return np.asarray(Image.open(io.BytesIO(answer.content)).getchannel("A"), dtype=int)


def near(found: dict) -> list[dict]:
    return [one for one in found["suspects"] if abs(1_200 * np.log2(one["hz"] / HZ)) < 60]


def test_a_suspect_is_found_cut_measured_again_and_undone(api, tmp_path):
    state = ringing_fiddle(api, tmp_path)
    assert state["sample_rate_hz"] == RATE
    suspect = near(suspects(api, state))[0]
    assert suspect["sentence"]
    assert suspect["around_hz"][0] < HZ < suspect["around_hz"][-1]
    assert suspect["proposed"] in ("cut", "tame")
    move = {**suspect["cut"], "gain_db": -14.0, "q": 20.0, "hz": HZ}
    entry = {"id": "c1", "move": move, "reason": suspect["sentence"], "evidence": suspect["evidence"]}
    cut = edit(api, state, set_track(state, ledger=[entry])).json()
    assert cut["tracks"][0]["ledger"][0]["evidence"]["kind"] == suspect["kind"]
    move = {"strip_id": state["tracks"][0]["id"], "entry_id": "c1"}
    cure = analysed(api, state, "cure", **move)
    assert cure["verdict"] == "cured", cure
    assert cure["excess_after_db"] < cure["excess_before_db"] - 6
    off = edit(api, cut, set_track(cut, ledger_on=False)).json()
    assert analysed(api, state, "cure", **move)["verdict"] == "not yet"
    back = step_back(api, off)
    assert back["tracks"][0]["ledger_on"]
    assert analysed(api, state, "cure", **(move | {"entry_id": "c2"})).status_code == 404
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
        told = analysed(api, state, "loss", **(move | {"entry_id": name}))
        over[name] = told and told["over_cut"]
    assert over == {"narrow": False, "wide": True, "elsewhere": True, "lows": None}


def test_what_is_wanted_or_no_fault_is_not_told_again(api, tmp_path):
    state = ringing_fiddle(api, tmp_path)
    assert near(suspects(api, state))
    kept = edit(api, state, set_track(state, keepers=[{"low_hz": 1_050, "high_hz": 1_220}])).json()
    assert not near(suspects(api, kept))
    free = edit(api, kept, set_track(kept, keepers=[])).json()
    dismissed = edit(api, free, set_track(free, dismissed=[{"hz": HZ * 1.01, "wide": False}])).json()
    told = suspects(api, dismissed)
    assert not near(told)
    assert told["n_dismissed"] == 1
    back = step_back(api, dismissed)
    assert near(suspects(api, back))
    assert near(suspects(api, back, strip=back["master"]["id"]))  # the mix is hunted like a track


def test_wrong_questions_get_clear_answers(api, tmp_path):
    state = ringing_fiddle(api, tmp_path)
    beyond = analysed(api, state, "suspects", strip_id=state["tracks"][0]["id"], start_s=50, end_s=60)
    assert beyond.status_code == 422
    assert "no sound" in beyond.json()["message"]
    assert suspects(api, state, strip="nobody").status_code == 404
    assert suspects(api, state, end_s=-1.0).status_code == 422


def test_what_is_looked_at_beside_the_track_treated_difference_pitch_and_sections(api, tmp_path):
    state = ringing_fiddle(api, tmp_path)
    track = state["tracks"][0]
    bell = {"kind": "bell", "hz": HZ, "gain_db": -14.0, "q": 20.0, "times_s": [[0.0, 2.0]]}
    section = {"id": "s1", "name": "Verse", "start_frame": 0, "end_frame": 2 * RATE}
    limited = set_track(state, ledger=[{"id": "c1", "move": bell}])
    named = edit(api, state, limited, {"do": "add-section", "section": section}).json()
    assert named["sections"] == [section]
    # 8 s in columns of 64 frames · 2⁶: before, behind the move, and what it has taken.
    shown = {shows: ink(api, state, track["id"], shows) for shows in ("before", "after", "difference")}
    at = round((1.0 - np.log10(HZ / 20.0) / 3.0) * len(shown["before"]))
    second = RATE // (64 << 6)
    within, outside = slice(0, 2 * second - 4), slice(3 * second, 6 * second)
    taken = shown["before"] - shown["after"]
    assert taken[at - 6 : at + 6, within].max() > 30
    assert np.abs(taken[:, outside]).max() == 0
    assert shown["difference"][at - 6 : at + 6, within].max() > 100
    assert shown["difference"][:, outside].max() == 0
    pitch = analysed(api, state, "pitch", strip_id=track["id"])
    assert pitch["one_voice"]
    assert 300 < np.median([hz for hz in pitch["hz"] if hz]) < 530
    wrong = edit(api, named, {"do": "add-section", "section": {**section, "end_frame": 0}})
    assert wrong.status_code == 422
    assert "must end (frame 0) after it starts (frame 0)" in wrong.json()["message"]
    back = step_back(api, named)
    assert back["sections"] == []
