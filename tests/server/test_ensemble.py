"""The Ensemble over HTTP: clashes in the background, right of way, yields, proof, groups, bad cases."""

import base64
import io
from pathlib import Path

import numpy as np
import soundfile
from scipy.signal import butter, sosfilt

from .helpers import RATE, analysed, edit, new_session, set_strip, set_track, step_back, upload, wav


def band(low_hz: float, high_hz: float, db: float, seed: int, channels: int = 1) -> bytes:
    x = np.random.default_rng(seed).standard_normal((3 * RATE, channels))
    x = sosfilt(butter(4, [low_hz, high_hz], "bandpass", fs=RATE, output="sos"), x, axis=0)
    out = io.BytesIO()
    soundfile.write(out, x / np.std(x) * 10 ** (db / 20), RATE, subtype="PCM_24", format="WAV")
    return out.getvalue()


def clashing(http) -> dict:
    session = new_session(http)
    upload(http, session["id"], "voice.wav", band(500, 1_500, -34, 1), role="lead voice")
    upload(http, session["id"], "organ.wav", band(400, 1_800, -26, 2, channels=2), role="keys")
    return upload(http, session["id"], "hat.wav", band(6_000, 9_000, -40, 3), role="cymbals").json()


def ensemble(http, state: dict) -> dict:
    return analysed(http, state, "ensemble")


def drafted(http, state: dict, clash_id: str, **asked):
    return analysed(http, state, "yield", clash_id=clash_id, **asked)


def maps(data: Path) -> set[Path]:
    """Return the maps of what reaches the ear of tracks and groups, (channels, frames, bands)."""
    return {path for path in (data / "products").rglob("power.npy") if np.load(path, mmap_mode="r").ndim == 3}


def test_a_clash_is_seen_decided_answered_proven_and_undone(http, mivlo):
    state = clashing(http)
    voice, organ, hat = (track["id"] for track in state["tracks"])
    view = ensemble(http, state)
    clash = view["clashes"][0]
    assert (clash["hidden"], clash["by"], clash["first"], clash["entry"]) == (voice, organ, voice, None)
    assert clash["weight"] == "strong"
    assert view["order"][0] == voice
    column = next(one for one in view["columns"] if one["id"] == voice)
    shape = (len(view["bands_hz"]), view["n_times"])
    ink, hidden, by = (
        np.frombuffer(base64.b64decode(column[name]), np.uint8).reshape(shape) for name in ("ink", "hidden", "by")
    )
    middle = int(np.searchsorted(view["bands_hz"], 900.0))
    assert ink[middle].mean() > 60
    assert hidden[middle].mean() > 150
    assert [one["id"] for one in view["columns"]][int(np.median(by[middle]))] == organ
    assert len(view["edges_hz"]) == len(view["bands_hz"]) + 1

    draft = drafted(http, state, clash["id"])
    assert draft["strip_id"] == organ
    move = draft["entry"]["move"]
    assert (move["kind"], move["listens_to"], move["depth_db"]) == ("dynamic-flat-bell", voice, -4.0)
    assert draft["capped"]
    assert "Gives way to voice" in draft["entry"]["reason"]
    further = drafted(http, state, clash["id"], limit_db=24.0)
    assert further["entry"]["move"]["depth_db"] < -4.0
    assert drafted(http, state, clash["id"], is_dynamic=False)["entry"]["move"]["kind"] == "flat-bell"

    known = maps(mivlo.data)
    carved = edit(http, state, set_track(state, 1, ledger=[further["entry"]]), label="Organ gives way").json()
    proven = ensemble(http, carved)
    # Only the track that changed was listened to again.
    assert len(maps(mivlo.data) - known) == 1
    assert proven["clashes"][0]["id"] == clash["id"]  # found on the sound without the yields: the list stays
    assert proven["clashes"][0]["entry"] == [organ, further["entry"]["id"]]
    proof = proven["proofs"][0]
    assert (proof["front"], proof["strip_id"], proof["verdict"]) == (voice, organ, "came forward")
    assert proof["hidden_after_percent"] < proof["hidden_before_percent"] - 10
    assert proof["cost_percent"] > 0
    assert sum(proof["after"]) > sum(proof["before"])
    now = next(one for one in proven["columns"] if one["id"] == voice)
    less = np.frombuffer(base64.b64decode(now["hidden_now"]), np.uint8).reshape(shape)
    assert less[middle].mean() < hidden[middle].mean() - 20

    back = step_back(http, carved)
    assert ensemble(http, back)["proofs"] == []
    assert hat in view["order"]


def test_the_user_decides_who_goes_first(api):
    state = clashing(api)
    voice, organ, hat = (track["id"] for track in state["tracks"])
    clash = ensemble(api, state)["clashes"][0]
    turned = {"do": "set-order", "order": [organ, hat, voice], "seen": []}
    state = edit(api, state, turned).json()
    view = ensemble(api, state)
    assert view["order"] == [organ, hat, voice]
    assert view["clashes"][0]["first"] == organ
    # Now the voice yields, though it is the one that is hidden.
    assert drafted(api, state, clash["id"])["strip_id"] == voice
    rule = {"one": voice, "other": organ, "low_hz": 450.0, "high_hz": 1_600.0, "first": voice}
    state = edit(api, state, {"do": "answer-clash", "rule": rule}).json()
    assert ensemble(api, state)["clashes"][0]["first"] == voice
    stay = {"do": "answer-clash", "rule": {**rule, "one": organ, "other": voice, "first": None}}
    state = edit(api, state, stay).json()
    assert len(state["right_of_way"]["exceptions"]) == 1
    assert ensemble(api, state)["clashes"][0]["first"] is None
    refused = drafted(api, state, clash["id"])
    assert (refused.status_code, refused.json()["message"][:9]) == (422, "both stay")
    assert drafted(api, state, "nothing").status_code == 404


def test_a_group_counts_as_one(api):
    state = clashing(api)
    organ, hat = (track["id"] for track in state["tracks"][1:])
    group = "0123456789abcdef0123456789abcdef"
    state = edit(
        api, state, {"do": "add-group", "group_id": group, "name": "Band"}, set_track(state, 1, group_id=group),
        set_track(state, 2, group_id=group),
    ).json()  # fmt: skip
    view = ensemble(api, state)
    assert {one["name"] for one in view["columns"]} == {"voice", "Band"}
    clash = view["clashes"][0]
    assert clash["by"] == group
    draft = drafted(api, state, clash["id"])
    assert (draft["strip_id"], draft["limit_db"]) == (group, 1.0)
    carved = edit(api, state, set_strip(state["groups"][0], ledger=[draft["entry"]])).json()
    assert ensemble(api, carved)["proofs"][0]["gained_percent"] > 0
    assert organ != hat


def test_faders_mutes_and_empty_sessions(api):
    assert ensemble(api, new_session(api))["columns"] == []
    state = clashing(api)
    quieter = edit(api, state, set_track(state, 1, gain_db=-30.0)).json()
    assert ensemble(api, quieter)["clashes"][0]["hidden"] == state["tracks"][1]["id"]
    muted = edit(api, quieter, set_track(quieter, 1, mute=True)).json()
    view = ensemble(api, muted)
    assert len(view["columns"]) == 2
    assert [one for one in view["clashes"] if one["strength"] > 0.2] == []


def test_the_mix_with_and_without_all_moves(api):
    session = new_session(api)
    state = upload(api, session["id"], "a.wav", wav(2.0), role="kick").json()
    bell = {"id": "b", "move": {"kind": "bell", "hz": 1_000.0, "gain_db": -9.0, "q": 1.0}}
    state = edit(api, state, set_track(state, ledger=[bell])).json()
    told = analysed(api, state, "mix-comparison")
    at = int(np.argmin(np.abs(np.array(told["hz"]) - 1_000.0)))
    assert told["after_db"][at] - told["before_db"][at] < -8.0
    assert abs(told["after_db"][0] - told["before_db"][0]) < 0.5
    assert told["listening"]["before"]["loudness_lufs"] > told["listening"]["after"]["loudness_lufs"]
    assert told["listening"]["before"]["true_peak_db"] is not None
