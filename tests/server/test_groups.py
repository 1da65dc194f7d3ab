"""Groups, the mix, twins, and moves that listen to other tracks, over HTTP and the monitor's socket."""

import io
import uuid

import numpy as np
import soundfile
import soxr

from mivlo.core.analyses.ear_map import who_plays
from mivlo.core.analyses.sounds import sound_into
from mivlo.core.engine.mix import Mix, mix_of_session
from mivlo.core.engine.render import render_mix, render_track
from mivlo.core.engine.source import ArraySource, open_source
from mivlo.server.services.state import SessionState
from mivlo.server.settings import settings

from .helpers import (
    RATE,
    analysed,
    bell,
    client_of,
    edit,
    finished,
    new_session,
    session_with_track,
    set_strip,
    set_track,
    step_back,
    upload,
    wav,
)


def two_tracks(http) -> dict:
    session = new_session(http)
    upload(http, session["id"], "pad.wav", wav(2.0, seed=1))
    return upload(http, session["id"], "voice.wav", wav(2.0, rate=44_100, channels=2, seed=2)).json()


def yielding(listens_to: str, **figures) -> dict:
    move = {
        "kind": "dynamic-bell",
        "hz": 1_000,
        "q": 1,
        "threshold_db": -60,
        "depth_db": -9,
        "listens_to": listens_to,
        **figures,
    }
    return {"id": "y1", "move": move}


def mix_of(state: dict) -> Mix:
    return mix_of_session(SessionState.model_validate(state))


def test_a_group_is_made_treated_dissolved_and_brought_back(api):
    state = two_tracks(api)
    group_id = uuid.uuid4().hex
    add = {"do": "add-group", "group_id": group_id, "name": "Pads"}
    made = edit(api, state, add, set_track(state, group_id=group_id)).json()
    assert [group["name"] for group in made["groups"]] == ["Pads"]
    assert made["tracks"][0]["group_id"] == group_id
    fields = {"ledger": [bell(), yielding(state["tracks"][1]["id"])], "gain_db": -3.0, "phase": "linear"}
    treated = edit(api, made, set_strip(made["groups"][0], **fields)).json()
    assert len(treated["groups"][0]["ledger"]) == 2
    mixed = edit(api, treated, set_strip(state["master"], ledger=[bell("m")])).json()
    assert mix_of(mixed).master.ledger[0].id == "m"
    gone = edit(api, mixed, {"do": "remove-group", "group_id": group_id}).json()
    assert gone["groups"] == []
    assert gone["tracks"][0]["group_id"] is None
    back = step_back(api, gone)
    assert back["groups"] == mixed["groups"]
    assert back["tracks"] == mixed["tracks"]
    refused = edit(api, back, {"do": "remove-group", "group_id": state["master"]["id"]})
    assert refused.status_code == 422
    assert edit(api, back, set_track(back, group_id="nobody")).status_code == 404


def test_twins_share_one_ledger_whichever_is_edited(api):
    state = two_tracks(api)
    pair = {"do": "pair-tracks", "track_id": state["tracks"][0]["id"], "with_id": state["tracks"][1]["id"]}
    state = edit(api, state, {**pair, "twin_id": "a" * 32}).json()
    state = edit(api, state, set_track(state, 1, ledger=[bell()], gain_db=-5.0)).json()
    assert [track["ledger"][0]["move"]["hz"] for track in state["tracks"]] == [431.0, 431.0]
    assert [track["gain_db"] for track in state["tracks"]] == [0.0, -5.0]  # faders and polarity stay each one's own
    state = edit(api, state, set_track(state, 0, phase="linear", polarity_flipped=True)).json()
    assert [track["phase"] for track in state["tracks"]] == ["linear", "linear"]
    assert [track["polarity_flipped"] for track in state["tracks"]] == [True, False]
    undone = step_back(api, state)
    assert [track["phase"] for track in undone["tracks"]] == ["minimum", "minimum"]


def test_what_goes_into_a_group_can_be_looked_at(api):
    state = two_tracks(api)
    group_id = uuid.uuid4().hex
    joined = [set_track(state, index, group_id=group_id) for index in (0, 1)]
    state = edit(api, state, {"do": "add-group", "group_id": group_id, "name": "G"}, *joined).json()
    spectrum = analysed(api, state, "spectrum", strip_id=group_id)
    alone = analysed(api, state, "spectrum", strip_id=state["tracks"][0]["id"])
    more = np.array(spectrum["level_db"]) - np.array(alone["level_db"])
    # Two noises of one level: 3 dB more where both are.
    assert abs(np.median(more[np.array(spectrum["hz"]) < 15_000]) - 3.0) < 0.7
    quieter = edit(api, state, set_track(state, 1, mute=True)).json()
    less = np.array(analysed(api, quieter, "spectrum", strip_id=group_id)["level_db"]) - np.array(alone["level_db"])
    assert np.abs(less).max() < 0.1
    assert analysed(api, state, "spectrum", strip_id="nobody").status_code == 404


def test_a_track_is_handed_over_with_what_its_moves_listen_to_at_its_own_rate(http):
    state = two_tracks(http)
    pad, voice = state["tracks"]
    state = edit(http, state, set_track(state, 1, ledger=[yielding(pad["id"], lookahead_ms=10.0)])).json()
    request = {"what": "tracks", "track_ids": [voice["id"]], "output": "wav-float"}
    asked = http.post(f"/api/sessions/{state['id']}/handovers", json=request)
    done = finished(http, state["id"], asked.json()["id"])
    assert done["status"] == "done", done
    samples, rate = soundfile.read(io.BytesIO(http.get(f"/api/handovers/{done['id']}/files/0").content), always_2d=True)
    assert rate == 44_100
    raw, _ = soundfile.read(io.BytesIO(wav(2.0, rate=44_100, channels=2, seed=2)), always_2d=True)
    key, _ = soundfile.read(io.BytesIO(wav(2.0, seed=1)), always_2d=True)
    sources = {
        voice["audio_id"]: ArraySource(raw.T),
        pad["audio_id"]: ArraySource(soxr.resample(key, RATE, 44_100, quality=soxr.VHQ).T.astype(np.float32)),
    }
    blocks = render_track(mix_of(state), voice["id"], sources.__getitem__, start=0, end=len(raw), sample_rate_hz=44_100)
    wanted = np.concatenate(list(blocks), axis=1).T
    assert np.max(np.abs(samples - wanted)) < 2e-4  # the key is resampled in pieces there, at once here
    assert np.std(samples - raw) > 0.005  # and it did act


def test_the_page_is_told_what_dynamic_moves_do(http, mivlo):
    state = session_with_track(http, seconds=3.0)
    ledger = [yielding("", depth_db=-12.0), {"id": "p", "move": {"kind": "plane"}}]
    state = edit(http, state, set_track(state, ledger=ledger)).json()
    played = client_of(mivlo).play(state, {"strip_id": state["tracks"][0]["id"]}, n_frames=72_000)
    told = [{move["entry_id"]: move for move in said["moves"]} for said in played.told("gains")]
    deepest = min(moves["y1"]["gain_db"] for moves in told)
    assert deepest < -6.0
    assert all(moves["y1"]["level_db"] is not None for moves in told)
    assert all(len(moves["p"]["bands"]) > 50 for moves in told[2:])


def test_what_goes_into_a_group_is_what_is_in_it_however_deep_and_what_is_sent_there(api):
    state = two_tracks(api)
    inner, outer, room = (uuid.uuid4().hex for _ in range(3))
    voice = state["tracks"][1]["id"]
    groups = [{"do": "add-group", "group_id": one, "name": name} for one, name in
              ((inner, "Inner"), (outer, "Outer"), (room, "Room"))]  # fmt: skip
    made = edit(api, state, *groups, set_track(state, group_id=inner)).json()
    within = {"do": "set-group", "group_id": inner, "fields": {"group_id": outer}, "seen": {"group_id": None}}
    sends = [{"do": "set-send", "strip_id": one, "to_id": room, "level_db": db, "seen_db": None}
             for one, db in ((voice, -6.0), (outer, 0.0))]  # fmt: skip
    state = edit(api, made, within, *sends).json()
    assert state["tracks"][1]["sends"] == [{"to_id": room, "level_db": -6.0}]

    def sound_of(group_id: str) -> np.ndarray:
        analysed(api, state, "waveform", strip_id=group_id)
        now = SessionState.model_validate(state)
        sound, _ = sound_into(now, now.strip(group_id))
        return np.load(settings().product_folder(sound.audio_id) / "session.npy")

    raw = [np.load(settings().data / "audio" / track["audio_id"] / "session.npy") for track in state["tracks"]]
    length = max(one.shape[1] for one in raw)
    first, second = (np.pad(np.vstack([one, one])[:2], ((0, 0), (0, length - one.shape[1]))) for one in raw)
    half = 10 ** (-6 / 20)
    for group_id, expected in ((inner, first), (outer, first), (room, first + half * second)):
        sound = sound_of(group_id)
        assert np.allclose(sound, expected[:, : sound.shape[1]], rtol=0.0, atol=1e-6)
    circle = {"do": "set-send", "strip_id": room, "to_id": outer, "level_db": 0.0, "seen_db": None}
    refused = edit(api, state, circle)
    assert refused.status_code == 422
    assert "circle" in refused.text
    assert all(name in refused.text for name in ("Room", "Outer"))
    # Of the groups, those play in the Ensemble that are in no other one.
    assert {one.id for one in who_plays(SessionState.model_validate(state))} == {voice, outer, room}
    # Without its group, what was in it goes where that went, and nothing is sent to what is gone.
    gone = edit(api, state, *({"do": "remove-group", "group_id": one} for one in (inner, room))).json()
    assert gone["tracks"][0]["group_id"] == outer
    assert [track["sends"] for track in gone["tracks"]] == [[], []]
    assert step_back(api, gone)["tracks"] == state["tracks"]


def test_groups_are_handed_over_with_what_is_sent_there_and_the_tail_of_a_room(api):
    state = two_tracks(api)
    pad, voice = (track["id"] for track in state["tracks"])
    room, reeds = uuid.uuid4().hex, uuid.uuid4().hex
    alone = {"kind": "room", "decay_s": 2.0, "wet_db": 0.0, "predelay_ms": 0.0, "keeps_sound": False}
    state = edit(api, state, [
        {"do": "add-group", "group_id": room, "name": "Room"}, {"do": "add-group", "group_id": reeds, "name": "Reeds"},
        {"do": "add-move", "strip_id": room, "entry": {"id": "r", "move": alone}},
        {"do": "set-send", "strip_id": pad, "to_id": room, "level_db": -6.0, "seen_db": None},
        {"do": "set-track", "track_id": voice, "fields": {"group_id": reeds}, "seen": {}},
        {"do": "set-group", "group_id": reeds, "fields": {"gain_db": -9.0}, "seen": {}},
    ]).json()  # fmt: skip
    asked = {"what": "groups", "group_ids": [room, reeds], "output": "wav-float", "tail_s": 1.5}
    handover = api.post(f"/api/sessions/{state['id']}/handovers", json=asked).json()
    done = finished(api, state["id"], handover["id"])
    assert [file["name"] for file in done["files"]] == ["Room mivlo.wav", "Reeds mivlo.wav"]
    sounds = []
    for index in range(2):
        x, rate = soundfile.read(io.BytesIO(api.get(f"/api/handovers/{done['id']}/files/{index}").content))
        assert (len(x), rate) == (round(3.5 * RATE), RATE)
        sounds.append(x)
    rings, plain = sounds
    assert np.std(rings[2 * RATE :]) > 1e-3  # the room rings on behind the song's end
    assert np.max(np.abs(plain[2 * RATE + 64 :])) < 1e-3
    # In the group's file is what the group was given, before its fader; not what anybody sends elsewhere.
    track = [one for one in mix_of(state).tracks if one.id == voice]
    mix = Mix(tracks=tuple(one.model_copy(update={"group_id": None}) for one in track))
    stored = settings().audio_folder(track[0].audio_id) / "session.npy"
    expected = np.concatenate(list(render_mix(
        mix, lambda _: open_source(stored), start=0, end=2 * RATE, sample_rate_hz=RATE
    )), axis=1)  # fmt: skip
    assert np.max(np.abs(plain[: 2 * RATE].T - expected)) < 1e-6
    refused = api.post(f"/api/sessions/{state['id']}/handovers", json=asked | {"group_ids": []})
    assert refused.status_code == 422
    assert "choose at least one group" in refused.text
    assert api.post(f"/api/sessions/{state['id']}/handovers", json=asked | {"tail_s": 11}).status_code == 422
