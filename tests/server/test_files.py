"""Files in, files out, and the sound over the monitor's socket, all through the real processes."""

import csv
import hashlib
import io
import struct
import subprocess
import time
import zipfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import httpx
import numpy as np
import pytest
import soundfile

from mivlo.core.engine.mix import mix_of_session
from mivlo.core.engine.render import render_mix, replay
from mivlo.core.engine.source import open_source
from mivlo.core.filters.biquad import frequency_response
from mivlo.core.metadata.containers import carried_by
from mivlo.core.metadata.notes import notes_of
from mivlo.core.moves.bell import Bell
from mivlo.server.monitor.queue import GROWTH_NEARLY_DRY, LONGEST_LEARNT_MS, LONGEST_MS, QueueLength
from mivlo.server.services.state import SessionState

from ..core.test_metadata import TIME, written
from ..monitor_client import Played
from .helpers import (
    RATE,
    analysed,
    bell,
    client_of,
    edit,
    finished,
    new_session,
    session_with_track,
    set_loop,
    set_strip,
    set_track,
    upload,
    wav,
)


def test_several_files_at_once_each_with_its_own_fate(http, mivlo):
    session = new_session(http)
    files = {
        "good one.wav": wav(1.0, rate=44_100, channels=2), "empty.wav": b"", "letter.wav": b"Dear Sir" * 400,
        "short.wav": wav(1.0)[:60_000], "many.wav": wav(0.1, channels=5), "other.wav": wav(0.5, rate=96_000),
    }  # fmt: skip
    with ThreadPoolExecutor(6) as pool:
        answers = dict(
            zip(files, pool.map(lambda item: upload(http, session["id"], *item), files.items()), strict=True)
        )
    refused = {name: answer.json()["message"] for name, answer in answers.items() if answer.status_code != 201}
    assert set(refused) == {"empty.wav", "letter.wav", "short.wav", "many.wav"}
    reasons = {
        "empty.wav": "is empty",
        "letter.wav": "cannot be read",
        "short.wav": "truncated",
        "many.wav": "5 channels",
    }
    for name, reason in reasons.items():
        assert reason in refused[name]
    state = http.get(f"/api/sessions/{session['id']}").json()
    assert sorted(track["name"] for track in state["tracks"]) == ["good one", "other"]
    for track in state["tracks"]:
        audio = state["audio"][track["audio_id"]]
        assert audio["n_frames"] == round(audio["original_frames"] * RATE / audio["original_rate_hz"])
        kept = (mivlo.data / "audio" / track["audio_id"] / "original").read_bytes()
        assert hashlib.sha256(kept).digest() == hashlib.sha256(files[audio["original_name"]]).digest()
    assert not any((mivlo.data / "incoming").iterdir())


def test_a_role_is_what_is_said_or_else_what_the_name_says(api):
    session = new_session(api)
    for name, fields in (("Lead Vox.wav", {}), ("Lead Vox.wav", {"role": "bass"}), ("Track 7.wav", {})):
        state = upload(api, session["id"], name, wav(0.1), **fields).json()
    assert [track["role"] for track in state["tracks"]] == ["lead voice", "bass", "other"]
    assert upload(api, session["id"], "a.wav", wav(0.1), role="sitarist").status_code == 422


@pytest.mark.parametrize(
    "name",
    ["../../../../tmp/evil.wav", "..\\..\\evil.wav", "/etc/passwd", "a\x00b.wav", "\u202egpj.wav", "x" * 400 + ".wav"],
)
def test_names_from_users_never_become_paths(http, mivlo, name):
    def files() -> set[Path]:
        """Return all files but the database's, and but what workers compute meanwhile, which ids of ours name."""
        return {path for path in mivlo.data.rglob("*") if not {"database", "products"} & set(path.parts)}

    before = files()
    state = upload(http, new_session(http)["id"], name, wav(0.1)).json()
    made = files() - before
    folder = mivlo.data / "audio" / state["tracks"][0]["audio_id"]
    assert made == {folder, folder / "original", folder / "session.npy"}
    assert all(
        character not in state["audio"][state["tracks"][0]["audio_id"]]["original_name"] for character in "/\\\x00"
    )


def test_replacing_the_audio_keeps_the_ledger_and_tells_what_changed(api):
    state = session_with_track(api, seconds=3.0)
    state = edit(api, state, set_track(state, ledger=[bell()], gain_db=-4)).json()
    track = state["tracks"][0]
    address = f"/api/sessions/{state['id']}/tracks/{track['id']}/audio"
    # The same sound, 100 ms later, half as loud (-6.0 dB), in stereo and half a second longer.
    x = soundfile.read(io.BytesIO(wav(3.0)))[0]
    later = io.BytesIO()
    soundfile.write(later, 0.5 * np.pad(x, (4_800, 19_200)), RATE,
                    format="WAV", subtype="FLOAT")  # fmt: skip
    told = api.post(address, files={"file": ("take 2.wav", later.getvalue())}).json()
    answer, changed = told["session"], told["changed"]
    assert (changed["later_frames"], changed["longer_s"]) == (4_800, pytest.approx(0.5))
    assert changed["louder_db"] == pytest.approx(-6.02, abs=0.4)  # the silence around it counts a little
    assert changed["sentence"] == (
        f"0.500 s longer, {-changed['louder_db']:.1f} dB softer, what both hold comes 100.00 ms later"
    )
    other = api.post(address, files={"file": ("take 2.wav", wav(2.0, seed=9, channels=2))}).json()
    assert "stereo instead of mono, another recording" in other["changed"]["sentence"]
    answer = other["session"]
    after = answer["tracks"][0]
    assert after["audio_id"] != track["audio_id"]
    assert (after["ledger"], after["gain_db"], answer["audio"][after["audio_id"]]["original_name"]) == (
        track["ledger"],
        -4,
        "take 2.wav",
    )
    refused = api.post(address, files={"file": ("bad.wav", b"")})
    assert refused.status_code == 422
    assert api.get(f"/api/sessions/{state['id']}").json() == answer


def test_the_bench_gets_pictures_spectrum_and_match(http, demo):
    drum = next(track for track in demo["tracks"] if track["name"] == "Frame drum")
    assert analysed(http, demo, "picture", strip_id=drum["id"], place={"time_zoom": 6})["bytes"] > 1_000
    spectrum = analysed(http, demo, "spectrum", strip_id=drum["id"], end_frame=30 * RATE)
    excess = np.array(spectrum["level_db"]) - np.array(spectrum["outline_db"])
    around = np.abs(np.log2(np.array(spectrum["hz"]) / 431.0)) < 0.05  # the planted ring
    assert np.max(excess[around]) > 9.0
    moves = [bell()["move"], {"kind": "notch", "hz": 50.0, "q": 20.0}, {"kind": "notch", "hz": 2_000.0, "q": 20.0}]
    response = http.post("/api/response", json={"moves": moves[:1], "sample_rate_hz": RATE}).json()["steady_db"]
    assert min(response) == pytest.approx(-6.0, abs=0.1)
    told = http.post("/api/response", json={"moves": moves, "sample_rate_hz": RATE}).json()
    assert told["without_linear_phase"] == [1]
    assert analysed(http, demo, "picture", strip_id=drum["id"], place={"time_zoom": 99}).status_code == 422
    assert analysed(http, demo, "waveform", strip_id="nobody").status_code == 404
    assert http.get(f"/api/products/{'0' * 32}/picture.png").status_code == 404


# Hand over


def hand_over(http, state: dict, **request) -> dict:
    asked = http.post(f"/api/sessions/{state['id']}/handovers", json=request)
    assert asked.status_code == 202, asked.text
    return finished(http, state["id"], asked.json()["id"])


def download(http, handover: dict, index: int = 0) -> tuple[np.ndarray, int, str]:
    answer = http.get(f"/api/handovers/{handover['id']}/files/{index}")
    x, rate = soundfile.read(io.BytesIO(answer.content), always_2d=True)
    return x, rate, answer.headers["content-disposition"]


def test_an_untouched_track_comes_back_bit_for_bit(http):
    data = wav(1.0, rate=44_100, channels=2)
    session = new_session(http)
    state = upload(http, session["id"], "Snare top.wav", data).json()
    state = edit(http, state, set_track(state, start_frame=5_000, gain_db=-9, pan=0.3)).json()
    x, rate, name = download(http, hand_over(http, state, what="tracks", track_ids=[state["tracks"][0]["id"]]))
    assert rate == 44_100
    assert "Snare%20top%20mivlo.wav" in name
    assert np.array_equal(x, soundfile.read(io.BytesIO(data))[0])


def test_a_treated_track_is_the_source_times_the_response(http):
    state = session_with_track(http, seconds=2.0, subtype="FLOAT", silence_s=2.0)
    state = edit(http, state, set_track(state, ledger=[bell(gain_db=-9.0)])).json()
    track = state["tracks"][0]
    done = hand_over(http, state, what="tracks", track_ids=[track["id"]], output="wav-float")
    y, _, _ = download(http, done)
    x, _ = soundfile.read(io.BytesIO(wav(2.0, subtype="FLOAT", silence_s=2.0)))
    h = np.fft.rfft(y[:, 0]) / np.fft.rfft(x)  # the silence at the end holds all that rings on
    hz = np.fft.rfftfreq(len(x), 1 / RATE)
    chosen = (hz > 20) & (hz < 20_000)
    wanted = frequency_response(Bell(hz=431, gain_db=-9, q=8).sections(RATE), hz[chosen], sample_rate_hz=RATE)
    assert np.max(np.abs(20 * np.log10(np.abs(h[chosen]) / np.abs(wanted)))) < 0.1


def test_mix_loop_flac_zip_and_names(http):
    state = session_with_track(http, seconds=2.0)
    upload(http, state["id"], "drum.wav", wav(1.0, seed=2))
    state = http.get(f"/api/sessions/{state['id']}").json()
    state = edit(http, state, set_loop(9_600, 57_600)).json()
    mixed, rate, name = download(http, hand_over(http, state, what="mix", stretch="loop", output="flac-24"))
    assert (mixed.shape, rate) == ((48_000, 2), RATE)
    assert ".flac" in name
    ids = [track["id"] for track in state["tracks"]]
    done = hand_over(http, state, what="tracks", track_ids=ids)
    archive = zipfile.ZipFile(io.BytesIO(http.get(f"/api/handovers/{done['id']}/all").content))
    assert archive.namelist() == ["drum mivlo.wav", "drum mivlo 2.wav"]
    assert archive.testzip() is None


def asked_and_running(http: httpx.Client, demo: dict) -> str:
    """Ask for all tracks and wait until some of them is written."""
    request = {"what": "tracks", "track_ids": [track["id"] for track in demo["tracks"]]}
    asked = http.post(f"/api/sessions/{demo['id']}/handovers", json=request).json()
    deadline = time.monotonic() + 60
    while time.monotonic() < deadline:
        now = next(one for one in http.get(f"/api/sessions/{demo['id']}/handovers").json() if one["id"] == asked["id"])
        if now["progress"] > 0.05:
            assert now["status"] == "running"
            return asked["id"]
        time.sleep(0.02)
    raise AssertionError("no progress within a minute")


def test_what_is_cancelled_in_mid_work_leaves_no_file(http, demo, mivlo):
    handover_id = asked_and_running(http, demo)
    assert any((mivlo.data / "handover" / handover_id).iterdir())
    http.post(f"/api/handovers/{handover_id}/cancel")
    assert finished(http, demo["id"], handover_id)["status"] == "cancelled"
    assert not (mivlo.data / "handover" / handover_id).exists()
    assert http.get(f"/api/handovers/{handover_id}/files/0").status_code == 404


def test_what_a_killed_job_left_half_way_is_begun_again_and_finished(http, demo, mivlo):
    handover_id = asked_and_running(http, demo)
    subprocess.run(["pkill", "-KILL", "-P", str(mivlo.process.pid), "-f", "jobs.worker"], check=True)
    done = finished(http, demo["id"], handover_id)
    assert done["status"] == "done"
    assert len(done["files"]) == len(demo["tracks"])


def test_what_cannot_be_handed_over_is_refused_at_once(http):
    state = session_with_track(http, seconds=0.1)
    for request, said in (
        ({"what": "tracks", "track_ids": []}, "choose at least one track"),
        ({"what": "mix", "stretch": "loop"}, "no loop is set"),
        ({"what": "mix", "output": "mp3"}, "output"),
        ({"what": "mix", "suffix": "/../x"}, "suffix"),
    ):
        answer = http.post(f"/api/sessions/{state['id']}/handovers", json=request)
        assert answer.status_code == 422
        assert said in answer.json()["message"]


def test_the_settings_list_in_both_forms(api):
    state = session_with_track(api)
    state = edit(api, state, set_track(state, ledger=[bell()])).json()
    rows = list(csv.DictReader(io.StringIO(api.get(f"/api/sessions/{state['id']}/settings-list.csv").text)))
    told = [(row["track"], row["kind"], row["hz"], row["gain_db"], row["q"]) for row in rows]
    assert told == [("drum", "Bell", "431.00", "-6.00", "8")]
    page = api.get(f"/api/sessions/{state['id']}/settings-list", params={"track_id": state["tracks"][0]["id"]}).text
    assert "half" in page  # the Q convention: the width at half the gain
    assert "431.00" in page


def test_the_settings_list_set_by_hand_elsewhere_gives_the_same_sound(http, tmp_path):
    """The list as another program understands it: ffmpeg's own equalizers, whose Q is the one that the list names."""
    session = new_session(http)
    x = 0.1 * np.random.default_rng(9).standard_normal((3 * RATE, 1))
    x[2 * RATE :] = 0.0  # all that rings on is heard
    soundfile.write(tmp_path / "noise.wav", x, RATE, subtype="FLOAT")
    state = upload(http, session["id"], "noise.wav", (tmp_path / "noise.wav").read_bytes()).json()
    ledger = [
        bell("a", hz=431.0, gain_db=-9.0),
        bell("b", hz=1_800.0, gain_db=4.0, q=0.9),
        bell("c", hz=142.0, gain_db=-3.5, q=2.0),
    ]
    state = edit(http, state, set_track(state, ledger=ledger)).json()
    rows = csv.DictReader(io.StringIO(http.get(f"/api/sessions/{state['id']}/settings-list.csv").text))
    chain = ",".join(f"equalizer=f={row['hz']}:t=q:w={row['q']}:g={row['gain_db']}:r=f64" for row in rows)
    command = ["ffmpeg", "-v", "error", "-i", "noise.wav", "-af", chain, "-c:a", "pcm_f32le", "elsewhere.wav"]
    subprocess.run(command, cwd=tmp_path, check=True)
    theirs, _ = soundfile.read(tmp_path / "elsewhere.wav")
    ours, _, _ = download(
        http, hand_over(http, state, what="tracks", track_ids=[state["tracks"][0]["id"]], output="wav-float")
    )
    hz = np.fft.rfftfreq(len(x), 1 / RATE)
    chosen = (hz > 40) & (hz < 5_000)  # higher up the plain bilinear filters of others are narrower than the prototype
    off_db = 20 * np.log10(np.abs(np.fft.rfft(ours[:, 0])[chosen] / np.fft.rfft(theirs)[chosen]))
    assert np.max(np.abs(off_db)) < 0.1


# The monitor


def opener(mivlo):
    return lambda audio_id: open_source(mivlo.data / "audio" / audio_id / "session.npy")


def replayed(mivlo, played: Played, *, at_frame: int) -> np.ndarray:
    """Return what the core makes of the log of a play."""
    (_, first), *changes = played.mixes()
    n_frames = played.n_frames
    again = replay(first, changes, opener(mivlo), start_frame=at_frame, n_frames=n_frames, sample_rate_hz=RATE)
    return again.astype(np.float32)


def test_the_monitor_plays_the_samples_of_the_render(mivlo, demo):
    played = client_of(mivlo).play(demo, {"alone": False, "matched": False}, at_frame=480_000, n_frames=48_000)
    mix = mix_of_session(SessionState.model_validate(demo))
    blocks = render_mix(mix, opener(mivlo), start=480_000, end=480_000 + played.n_frames, sample_rate_hz=RATE)
    assert np.any(played.sound)
    assert np.array_equal(played.sound, np.concatenate(list(blocks), axis=1).astype(np.float32))


def test_changes_while_playing_are_those_of_the_log(mivlo, http):
    """Listening in many ways, a figure under the pointer, an edit, and the level match once it is measured."""
    state = session_with_track(http, seconds=4.0)
    upload(http, state["id"], "pad.wav", wav(4.0, channels=2, seed=5))
    state = edit(http, state, set_track(state, ledger=[bell(gain_db=9.0, q=0.5)]), set_loop(96_000, 168_000)).json()
    strip_id = state["tracks"][0]["id"]
    on, now = {"strip_id": strip_id}, state["revision"]
    dragged = {"strip_id": strip_id, "entry_id": "e1", "move": bell(gain_db=4.0, q=0.5)["move"]}
    changed = edit(http, state, set_track(state, gain_db=-4.0)).json()
    listenings = [
        (now, on), (now, {**on, "probe": {"track_id": strip_id, "hz": 431.0}}), (now, {**on, "preview": dragged}),
        (changed["revision"], {**on, "alone": False}), (changed["revision"], {**on, "offcuts": True, "dim": True}),
    ]  # fmt: skip
    played = client_of(mivlo).play_changing(state, listenings, at_frame=100_000, n_frames=90_000)
    mixes = [mix for _, mix in played.mixes()]
    assert mixes[-1].dim
    assert mixes[-1].tracks[0].gain_db == -4.0
    assert any(mix.tracks[0].ledger[0].move.gain_db == 4.0 for mix in mixes)
    assert np.array_equal(played.sound, replayed(mivlo, played, at_frame=100_000))


def test_the_level_match_turns_the_louder_one_down(mivlo, http):
    state = session_with_track(http, seconds=3.0)
    on = {"strip_id": state["tracks"][0]["id"]}

    def match(state: dict) -> dict:
        """Listen until it is measured; this client plays faster than the clock, a busy machine measures slower."""
        told: list[dict] = []
        deadline = time.monotonic() + 60
        while not told and time.monotonic() < deadline:
            played = client_of(mivlo).play(state, on, n_frames=96_000)
            told = [one["match"] for one in played.told("match") if one["match"]]
        return told[-1]

    cut = edit(http, state, set_track(state, ledger=[bell(gain_db=-24.0, q=0.3)])).json()
    figures = match(cut)
    difference = figures["after"]["loudness_lufs"] - figures["before"]["loudness_lufs"]
    assert difference < -1.0
    assert figures["match_before_db"] == pytest.approx(difference)
    assert figures["match_after_db"] == 0.0
    louder = edit(http, cut, set_track(cut, ledger=[bell(gain_db=12.0, q=0.3)])).json()
    boosted = match(louder)
    assert boosted["match_after_db"] < -0.5
    assert boosted["match_before_db"] == 0.0
    deadline = time.monotonic() + 60
    while (mixes := client_of(mivlo).play(louder, on, n_frames=48_000).mixes())[-1][1].match_db == 0.0:
        assert time.monotonic() < deadline
    assert mixes[-1][1].match_db == boosted["match_after_db"]
    short = match(edit(http, louder, set_loop(0, 9_600)).json())
    assert short["before"]["loudness_lufs"] is None  # under 400 ms there is none
    assert short["match_after_db"] == 0.0


def test_nonsense_to_the_monitor_is_answered_in_words(mivlo, http):
    state = session_with_track(http)
    for wrong, said in (({"at_frame": -5}, "at_frame"), ({"epoch": 10**30}, "epoch")):
        assert said in client_of(mivlo).play(state, {}, n_frames=1, **wrong).told("problem")[0]["message"]
    nowhere = client_of(mivlo).play({"id": "../../etc/passwd", "revision": 0}, {}, n_frames=1)
    assert "is not there" in nowhere.told("problem")[0]["message"]
    # Who is not in the session is not heard, and nothing else is silenced by that.
    stranger = {"strip_id": "nobody", "matched": False, "probe": {"track_id": "nobody", "hz": 100.0}}
    assert np.any(client_of(mivlo).play(state, stranger, n_frames=4_096).sound)


def test_the_queue_grows_in_trouble_and_shrinks_in_calm():
    queue = QueueLength(40.0, sample_rate_hz=RATE)
    for second in range(10):
        queue.report(held_frames=0, underruns=second, now_s=float(second))
    assert queue.aim_ms == LONGEST_MS
    for tenth in range(100, 900):
        queue.report(held_frames=queue.aim_frames, underruns=9, now_s=tenth / 10)
    assert queue.aim_ms == queue.base_ms == LONGEST_LEARNT_MS  # it ran dry nine times: not as short again
    queue = QueueLength(40.0, sample_rate_hz=RATE)
    queue.lengthen(60.0)
    for tenth in range(100):
        queue.report(held_frames=queue.aim_frames if tenth else 0, underruns=0, now_s=10.0 + tenth / 10)
        assert tenth or queue.aim_ms == 60.0 * GROWTH_NEARLY_DRY
    assert (queue.aim_ms, queue.base_ms) == (60.0, 40.0)  # long for what was played, and only nearly dry


def test_files_are_placed_by_the_time_that_they_tell_and_named_as_the_recorder_named_them(api, tmp_path):
    """On import the earliest time reference of a session is its beginning."""
    state = new_session(api)
    whole = written(tmp_path / "a.wav").read_bytes()
    earlier = struct.pack("<Q", TIME - 96_000)
    for name, data in (
        ("T01.wav", whole),
        ("T02.wav", whole.replace(struct.pack("<Q", TIME), earlier, 1).replace(b"Kick in", b"Fiddle ")),
        ("plain.wav", wav(0.5)),
    ):
        answer = upload(api, state["id"], name, data)
        assert answer.status_code == 201, answer.text
    state = answer.json()
    told = [(one["name"], one["role"], one["start_frame"]) for one in state["tracks"]]
    assert told == [("Kick in", "kick", 96_000), ("Fiddle", "strings", 0), ("plain", "other", 0)]
    facts = state["audio"][state["tracks"][0]["audio_id"]]
    assert [one["name"] for one in facts["markers"]] == ["Verse", "Chorus!", "End"]
    # Where anything hangs on times, nothing is moved any more: an earlier file starts with the session.
    state = edit(api, state, set_strip(state["tracks"][0], ledger=[bell()])).json()
    day_before = whole.replace(struct.pack("<Q", TIME), struct.pack("<Q", TIME - 960_000), 1)
    state = upload(api, state["id"], "T03.wav", day_before).json()
    assert [one["start_frame"] for one in state["tracks"]] == [96_000, 0, 0, 0]
    request = {"what": "tracks", "track_ids": [state["tracks"][0]["id"]]}
    made = api.post(f"/api/sessions/{state['id']}/handovers", json=request)
    assert finished(api, state["id"], made.json()["id"])["status"] == "done"
    (tmp_path / "out.wav").write_bytes(api.get(f"/api/handovers/{made.json()['id']}/files/0").content)
    assert notes_of(carried_by(tmp_path / "out.wav")) == notes_of(carried_by(tmp_path / "a.wav"))
