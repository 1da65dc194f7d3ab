"""Proof over the API: treatments that are one session's, and blind checks in which only the sound tells X."""

import io
import time

import numpy as np
import pytest
import soundfile

from mivlo.core.analyses.loudness import Loudnesses
from mivlo.core.treatment import parse_treatment

from .helpers import RATE, client_of, edit, new_session, session_with_track, step_back, upload, wav

BELL = {"kind": "bell", "hz": 1_000, "gain_db": -12, "q": 2}
N_FRAMES = 24_000
HEARD = 0.05  # a tenth of what the sound comes to; 60 dB down, it comes to a thousandth


def added(entry_id: str, move: dict, **more) -> dict:
    entry = {"id": entry_id, "move": move}
    return {"do": "add-move", "entry": entry, **more}


def test_a_treatment_is_edited_read_heard_told_and_rendered_beside_the_first(http, mivlo):
    state = session_with_track(http, seconds=2.0)
    track = state["tracks"][0]["id"]
    b = {"do": "add-treatment", "letter": "B", "of": "A", "name": "bolder"}
    state = edit(http, state, added("a", BELL, strip_id=track), b).json()
    deeper = {"do": "set-move", "treatment": "B", "strip_id": track, "entry_id": "a", "seen": BELL}
    state = edit(http, state, deeper | {"move": BELL | {"gain_db": -20}}).json()
    path = f"/api/sessions/{state['id']}"
    assert state["tracks"][0]["ledger"][0]["move"]["gain_db"] == -12
    shown = http.get(path, params={"treatment": "B"}).json()
    assert (shown["treatment"], shown["tracks"][0]["ledger"][0]["move"]["gain_db"]) == ("B", -20)
    [told] = http.get(f"{path}/differences", params={"other": "B"}).json()
    assert told["sentences"] == ["the 1.0 kHz bell: gain −20 instead of −12 dB"]
    assert http.get(path, params={"treatment": "C"}).status_code == 404
    # What is analysed behind the moves is another thing in each; the sound process plays the one that is named.
    ids = {
        http.post(f"{path}/analyses/loss", params={"treatment": one}, json={"strip_id": track, "entry_id": "a"})
        .json()
        .get("id")
        for one in "AB"
    }
    assert len(ids) == 2
    sounds = [client_of(mivlo).play(state, {"treatment": one}, n_frames=N_FRAMES).sound for one in "AB"]
    assert not np.array_equal(*sounds)
    files = []
    for letter in "AB":
        made = http.post(f"{path}/handovers", json={"what": "mix", "treatment": letter, "level_match": False}).json()
        deadline = time.monotonic() + 60
        while made["status"] != "done":
            assert time.monotonic() < deadline
            time.sleep(0.2)
            made = next(one for one in http.get(f"{path}/handovers").json() if one["id"] == made["id"])
        data = http.get(f"/api/handovers/{made['id']}/files/0").content
        files.append(soundfile.read(io.BytesIO(data), always_2d=True)[0].T[:, :N_FRAMES])
    for file, sound in zip(files, sounds, strict=True):
        assert np.allclose(file, sound[:, :N_FRAMES], atol=2.0**-22)
    state = step_back(http, step_back(http, state))
    assert [one["letter"] for one in state["treatments"]] == ["A"]


@pytest.fixture
def checked(http):
    """Return a session with a move, and a function that begins a check of it."""
    state = session_with_track(http, seconds=2.0)
    state = edit(http, state, added("a", BELL, strip_id=state["tracks"][0]["id"])).json()
    path = f"/api/sessions/{state['id']}/blind-checks"

    def begin(asks: str = "hear", **more):
        compared = {"what": "one-move", "entry_id": "a"}
        body = {"asks": asks, "compared": compared, "strip_id": state["tracks"][0]["id"], **more}
        return http.post(path, json=body)

    return state, path, begin


def heard(client, state, on):
    """Play until something is heard: before both sides are known to be equally loud, both are 60 dB down, and this
    client plays faster than the clock. What is compared is what comes once it sounds."""
    deadline = time.monotonic() + 60
    while True:
        play = client.play(state, on, n_frames=RATE)
        if np.abs(play.sound[:, : -3 * N_FRAMES // 2]).max() > HEARD or time.monotonic() > deadline:
            return play


def shape(value):
    """Return what of a message could tell something: all but the counts of frames."""
    if isinstance(value, dict):
        return {name: shape(one) for name, one in value.items()}
    return "a number" if isinstance(value, int | float) and not isinstance(value, bool) else value


def test_only_the_sound_tells_x_and_who_hears_it_gets_all_right(http, mivlo, checked):
    state, path, begin = checked
    check = begin(n_trials=5).json()
    assert set(check) == {"id", "asked", "n_answered", "n_most", "result"}
    client = client_of(mivlo)
    sides = []
    for trial in range(5):
        blind = {"check_id": check["id"], "trial": trial}
        plays = {one: heard(client, state, {"blind": {**blind, "press": one}}) for one in "AXB"}
        said = [one for play in plays.values() for one in play.said]
        assert all(one["match"] is None for one in said if one["type"] == "match")
        assert len({repr(shape(one)) for one in said if one["type"] == "meter"}) <= 1
        assert all(one["peak_db"] is None and one["momentary_lufs"] is None for one in plays["X"].told("meter"))
        assert not any(play.told("gains") or play.told("spectra") for play in plays.values())
        assert all(one["mix"] is None for play in plays.values() for one in play.told("applied"))
        x, a, b = (play.sound[:, -N_FRAMES:].astype(float) for play in (plays["X"], plays["A"], plays["B"]))
        is_a = np.abs(x - a).max() < np.abs(x - b).max()
        sides.append(is_a)
        check = http.post(f"{path}/{check['id']}/answers", json={"trial": trial, "choice": "A" if is_a else "B"}).json()
    assert check["result"]["right"] == 5
    assert check["result"]["sentence"].startswith("5 of 5 right")
    again = http.post(f"{path}/{check['id']}/answers", json={"trial": 4, "choice": "A" if sides[-1] else "B"})
    assert again.json() == check  # sent twice, taken once
    assert http.post(f"{path}/{check['id']}/answers", json={"trial": 5, "choice": "A"}).status_code == 409
    assert [one["id"] for one in http.get(path).json()] == [check["id"]]


def test_a_switch_to_the_same_side_looks_like_one_to_the_other(http, mivlo, checked):
    state, _, begin = checked
    check = begin().json()
    presses = [(state["revision"], {"blind": {"check_id": check["id"], "trial": 0, "press": one}}) for one in "AXBXAB"]
    played = client_of(mivlo).play_changing(state, presses, n_frames=90_000, holds_frames=2_048, in_turn=True)
    switches = {one["seq"] for one in played.told("applied")}
    assert not played.told("problem"), played.told("problem")
    assert switches == set(range(6))  # X is A or B: one of its neighbours is the same
    assert played.exchanges >= 5


def test_the_least_that_is_heard_is_offered_as_a_move(http, checked):
    _, path, begin = checked
    check = begin("least").json()
    for trial in range(check["n_most"]):
        check = http.post(f"{path}/{check['id']}/answers", json={"trial": trial, "choice": "A"}).json()
        if check["result"]:
            break
    result = check["result"]
    assert result["of"] <= 40
    assert (result["offered"] is None) == (not result["heard"])


def test_what_cannot_be_checked_is_refused_with_the_reason(http, checked):
    state, _, begin = checked
    short = edit(http, state, {"do": "set-loop", "start_frame": 0, "end_frame": RATE // 2}).json()
    assert "1 s or more" in begin().json()["message"]
    edit(http, short, {"do": "set-loop", "start_frame": None, "end_frame": None})
    assert begin(compared={"what": "one-move", "entry_id": "gone"}).status_code == 404
    assert begin(compared={"what": "treatments", "other": "B"}).status_code == 404
    silent = new_session(http)
    silent = upload(
        http, silent["id"], "s.wav", wav(2.0, silence_s=0.0).replace(wav(2.0)[44:], bytes(len(wav(2.0)) - 44))
    )
    body = {"asks": "hear", "compared": {"what": "all-moves"}, "strip_id": silent.json()["tracks"][0]["id"]}
    refused = http.post(f"/api/sessions/{silent.json()['id']}/blind-checks", json=body)
    assert refused.status_code == 422
    assert "silent" in refused.json()["message"]


def test_a_check_whose_session_is_deleted_while_it_begins_is_answered_in_words(api, monkeypatch):
    state = session_with_track(api, seconds=1.5)
    state = edit(api, state, added("a", BELL, strip_id=state["tracks"][0]["id"])).json()
    path, analyse = f"/api/sessions/{state['id']}", Loudnesses.analyse

    def deleted_meanwhile(self, work, params):
        api.delete(path, params={"for_good": True})
        return analyse(self, work, params)

    monkeypatch.setattr(Loudnesses, "analyse", deleted_meanwhile)
    body = {"asks": "hear", "compared": {"what": "all-moves"}, "strip_id": state["tracks"][0]["id"]}
    refused = api.post(f"{path}/blind-checks", json=body)
    assert refused.status_code == 404, refused.text
    assert "was deleted while" in refused.json()["message"]


def test_kept_moves_stay_over_all_sessions_and_are_treatment_files_outside(api):
    treatment = {"mivlo_treatment": 1, "moves": [BELL, {"kind": "low-cut", "hz": 80}]}
    body = {"name": "Drum, “dry”/1", "role": "toms", "remark": "small room", "found_on": "Frame drum"}
    kept = api.post("/api/kept-moves", json=body | {"treatment": treatment}).json()
    assert kept["id"] in [one["id"] for one in api.get("/api/kept-moves").json()]
    half = api.get(f"/api/kept-moves/{kept['id']}/moves", params={"amount": 50}).json()
    assert [move.get("gain_db") for move in half] == [-6.0, None]  # a cut stays whole
    file = api.get(f"/api/kept-moves/{kept['id']}/treatment.json")
    assert parse_treatment(file.text, name="file").moves[0].gain_db == -12.0
    assert "Drum%2C" in file.headers["content-disposition"]
    assert api.delete(f"/api/kept-moves/{kept['id']}").status_code == 204
    assert api.get(f"/api/kept-moves/{kept['id']}/moves").status_code == 404
    for wrong in ({"mivlo_treatment": 2, "moves": []}, {"mivlo_treatment": 1, "moves": [{"kind": "bell", "hz": 1}]}):
        assert api.post("/api/kept-moves", json=body | {"treatment": wrong}).status_code == 422
