"""The main flows in the real interface: from the start page to a processed file, and what goes wrong on the way."""

import gzip
import io
import json
import os
import re
import signal
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest
import soundfile
from playwright.sync_api import Page, Response, expect

from mivlo.core.filters.biquad import frequency_response
from mivlo.core.moves.bell import Bell
from mivlo.core.moves.low_cut import LowCut
from mivlo.core.moves.low_shelf import LowShelf
from mivlo.core.moves.notch import Notch

from ..conftest import ROOT
from ..server.helpers import wav

RATE = 48_000
RING_HZ = next(f["hz"] for f in json.loads((ROOT / "demo/truth.json").read_text())["faults"] if f["kind"] == "ring")


def third_octaves() -> list[tuple[float, float]]:
    # IEC 61260-1:2014: exact centres 1000·10^(n/10), edges a twentieth of a decade away.
    return [(1_000 * 10 ** (n / 10 - 0.05), 1_000 * 10 ** (n / 10 + 0.05)) for n in range(-17, 14)]


def test_the_first_screen_needs_little(page: Page):
    """What is loaded until the start page works, compressed: 130 kB of script and 25 kB of style at most."""
    loaded: list[Response] = []

    def note(response: Response) -> None:
        loaded.append(response)

    page.on("response", note)
    page.goto("/")
    expect(page.get_by_role("button", name="Make it")).to_be_visible()
    page.wait_for_load_state("networkidle")
    kilobytes = {"script": 0.0, "stylesheet": 0.0}
    for response in loaded:
        if response.request.resource_type in kilobytes:
            kilobytes[response.request.resource_type] += len(gzip.compress(response.body())) / 1e3
    assert 40.0 < kilobytes["script"] <= 130.0
    assert 5.0 < kilobytes["stylesheet"] <= 25.0


def test_from_the_start_page_to_the_processed_file(bench, page: Page):
    bench.open_demo("Frame drum")
    bench.play()
    # Sweep with the probe down to the planted ring, pin it without stopping.
    page.mouse.move(*bench.point(900))
    page.mouse.down()
    page.mouse.move(*bench.point(RING_HZ), steps=12)
    expect(page.get_by_test_id("readout")).to_contain_text("lifted 15 dB")
    expect(page.get_by_test_id("readout")).to_contain_text("A4")
    page.wait_for_function("() => window.mivlo.play.spectra.value")
    expect(page.get_by_test_id("readout")).to_contain_text("stands out", timeout=60_000)
    told = page.get_by_test_id("readout").inner_text()
    assert float(told.split("stands out ")[1].split(" dB")[0]) > 9.0
    page.keyboard.press("p")
    expect(page.get_by_test_id("pin")).to_have_count(1)
    assert page.evaluate("() => window.mivlo.play.probe.value.hz") == pytest.approx(RING_HZ, rel=0.01)
    page.mouse.up()
    expect(page.get_by_test_id("play")).to_have_text("Stop")
    assert page.evaluate("() => window.mivlo.play.probe.value") is None
    # Pin -> cut -> figures typed with units.
    page.get_by_test_id("pin").get_by_role("button", name="cut").click()
    expect(page.get_by_test_id("pin")).to_have_count(0)
    for label, text in (("Frequency", f"{RING_HZ:g}"), ("Gain", "-9 dB"), ("Q", "0.2 oct")):
        bench.figure(label, text)
    bench.saved()
    move = bench.chosen()["ledger"][0]["move"]
    assert (move["kind"], move["hz"], move["gain_db"]) == ("bell", RING_HZ, -9)
    assert move["q"] == pytest.approx(7.2077, abs=1e-3)  # N = (2/ln 2)·asinh(1/(2Q)) for 0.2 octaves
    # Compare: alone and in the mix, before and after, level-matched with the match shown in dB.
    for _ in range(2):
        page.get_by_test_id("before").click()
        expect(page.get_by_test_id("match")).to_have_text(re.compile(r"[−+]?\d+\.\d dB"))
        page.get_by_test_id("after").click()
        page.keyboard.press("a")
    expect(page.get_by_test_id("play")).to_have_text("Stop")
    page.get_by_test_id("play").click()
    # Render and compare the file with the computed response.
    page.get_by_role("link", name="Hand-over").click()
    page.get_by_text("WAV, 32-bit float").click()
    page.get_by_test_id("render").click()
    with page.expect_download() as download:
        page.get_by_test_id("download").first.click()
    assert download.value.suggested_filename == "frame-drum mivlo.wav"
    x, rate = soundfile.read(ROOT / "demo/tracks/frame-drum.flac")
    y, rate_after = soundfile.read(download.value.path())
    assert (rate_after, y.shape) == (rate, x.shape)
    hz = np.fft.rfftfreq(len(x), 1 / rate)
    h = frequency_response(
        Bell(hz=RING_HZ, gain_db=-9, q=move["q"]).sections(rate), np.maximum(hz, 1e-3), sample_rate_hz=rate
    )
    source, after = (np.abs(np.fft.rfft(s)) ** 2 * 2 / len(x) ** 2 for s in (x, y))
    compared = 0
    for low, high in third_octaves():
        band = (hz >= low) & (hz < min(high, 20_000))
        if 10 * np.log10(np.sum(source[band]) * 2) > -80.0:
            wanted = np.sum(source[band] * np.abs(h[band]) ** 2) / np.sum(source[band])
            assert abs(10 * np.log10(np.sum(after[band]) / np.sum(source[band]) / wanted)) < 0.1, low
            compared += 1
    assert compared > 15


def test_undo_goes_back_over_a_reload(bench, page: Page):
    bench.open_demo("Fiddle")
    page.mouse.move(*bench.point(3_300))
    page.keyboard.press("c")
    bench.saved()
    bench.figure("Gain", "-7")
    bench.saved()
    page.reload()
    page.get_by_role("button", name="Fiddle", exact=True).click()
    expect(page.get_by_test_id("move")).to_have_count(1)
    page.keyboard.press("Control+z")
    page.wait_for_function("() => window.mivlo.session.chosen.value.ledger[0]?.move.gain_db !== -7")
    page.keyboard.press("Control+z")
    expect(page.get_by_test_id("move")).to_have_count(0)
    page.keyboard.press("Control+Shift+z")
    expect(page.get_by_test_id("move")).to_have_count(1)
    page.keyboard.press("Control+z")
    expect(page.get_by_test_id("move")).to_have_count(0)


def test_drags_lock_to_one_axis_and_notes_never_overlap(bench, page: Page):
    bench.open_demo("Cello")
    for hz in (300, 310, 320, 330, 340, 350):
        page.mouse.move(*bench.point(hz))
        page.keyboard.press("c")
    bench.saved()
    notes = page.get_by_test_id("move")
    expect(notes).to_have_count(6)
    boxes = sorted((notes.nth(n).bounding_box() for n in range(6)), key=lambda box: box["y"])
    for above, below in pairwise(boxes):
        assert above["y"] + above["height"] <= below["y"] + 0.5
    before = bench.chosen()["ledger"][5]["move"]
    handle = bench.settled_box("[data-test=handle].chosen")
    page.mouse.move(handle["x"] + 6, handle["y"] + 6)
    page.mouse.down()
    page.mouse.move(handle["x"] - 24, handle["y"] + 14, steps=8)  # mostly sideways: gain, and never frequency
    page.mouse.up()
    bench.saved()
    after = bench.chosen()["ledger"][5]["move"]
    assert after["gain_db"] < before["gain_db"] - 5
    assert (after["hz"], after["q"]) == (before["hz"], before["q"])
    for bad, said in (("loud", "a number|such as"), ("-99 dB", "−30.0 dB to")):
        bench.figure("Gain", bad)
        expect(notes.get_by_role("alert")).to_contain_text(re.compile(said))
    assert bench.chosen()["ledger"][5]["move"] == after
    for _ in range(7):
        page.keyboard.press("Escape")
        page.get_by_role("button", name="undo").click()
        bench.saved()
    expect(notes).to_have_count(0)


def test_files_come_in_each_with_its_own_fate(page: Page, tmp_path: Path):
    page.goto("/")
    page.get_by_label("Name of the new session").fill("Imports")
    page.get_by_role("button", name="Make it").click()
    files = {"kick in.wav": wav(1.0, rate=44_100), "room.wav": wav(1.0, channels=2)}
    files |= {"broken.wav": b"RIFF" + bytes(60), "notes.txt": b"hello"}
    for name, data in files.items():
        (tmp_path / name).write_bytes(data)
    page.get_by_test_id("files").set_input_files([tmp_path / name for name in files])
    coming = page.get_by_label("Files coming in")
    expect(coming.get_by_text("is in")).to_have_count(2)
    expect(coming.get_by_text("refused: broken.wav")).to_be_visible()
    expect(coming.get_by_text("refused: notes.txt: cannot be read as audio")).to_be_visible()
    expect(page.get_by_label("Name of kick in")).to_be_visible()
    page.get_by_label("Gain of room").fill("-3.5 dB")
    page.get_by_label("Gain of room").press("Enter")
    page.get_by_label("Pan of room").fill("30 left")
    page.get_by_label("Pan of room").press("Enter")
    expect(page.get_by_text("all saved")).to_be_visible()
    state = page.evaluate("() => JSON.parse(JSON.stringify(window.mivlo.session.state.value.tracks[1]))")
    assert (state["gain_db"], state["pan"]) == (-3.5, -0.3)


def test_channels_and_sides_are_asked_about_once_and_a_replaced_file_is_lined_up(page: Page, tmp_path: Path):
    files = {"Room mics.wav": wav(3.0, channels=4), "Piano L.wav": wav(3.0, seed=2), "Piano R.wav": wav(3.0, seed=3)}
    for name, data in files.items():
        (tmp_path / name).write_bytes(data)
    page.goto("/")
    page.get_by_test_id("bring").set_input_files([tmp_path / name for name in files])
    question = page.get_by_test_id("channel-question")
    expect(question).to_contain_text("More than two channels: Room mics.wav")
    expect(question).to_contain_text("Left and right by their names: Piano")
    question.get_by_label("each two become a stereo track").check()
    question.get_by_role("button", name="Bring them in").click()
    rows = page.get_by_role("table").get_by_role("row")
    expect(rows).to_have_count(4)
    for name in ("Room mics 1+2", "Room mics 3+4", "Piano"):
        expect(page.get_by_label(f"Name of {name}")).to_be_visible()
    x, _ = soundfile.read(io.BytesIO(wav(3.0, channels=4)))
    soundfile.write(tmp_path / "mics again.wav", np.pad(x[:, :2], ((960, 0), (0, 0))), RATE, subtype="PCM_24")
    with page.expect_file_chooser() as chooser:
        rows.nth(1).get_by_role("button", name="replace").click()
    chooser.value.set_files(tmp_path / "mics again.wav")
    told = page.get_by_role("list", name="Files coming in")
    expect(told).to_contain_text("0.020 s longer, what both hold comes 20.00 ms later")
    # A track begins within its session: this one cannot begin sooner.
    page.get_by_test_id("line-up").click()
    expect(told).to_contain_text("it cannot begin before its session")


def test_a_loop_is_dragged_and_two_pages_share_history_not_position(bench, page: Page, mivlo):
    bench.open_demo("Guitar")
    other = page.context.new_page()
    other.goto(page.url)
    other.get_by_test_id("spectrum").wait_for()
    box = page.get_by_test_id("waveform").bounding_box()
    page.mouse.move(box["x"] + box["width"] * 0.25, box["y"] + 20)
    page.mouse.down()
    page.mouse.move(box["x"] + box["width"] * 0.5, box["y"] + 20, steps=5)
    page.mouse.up()
    expect(other.get_by_text("loop 0:0")).to_be_visible()
    bench.play()
    page.wait_for_function("() => window.mivlo.play.positionFrame.value > 400000")
    assert other.evaluate("() => window.mivlo.play.positionFrame.value") == 0
    assert other.evaluate("() => window.mivlo.play.playing.value") is False
    other.get_by_role("button", name="undo").click()
    expect(page.get_by_text("drag on the waveform")).to_be_visible()
    expect(page.get_by_test_id("play")).to_have_text("Stop")
    other.close()


def test_a_lost_connection_is_told_and_mended(bench, page: Page, mivlo):
    bench.open_demo("Spoons")
    bench.play()
    os.kill(mivlo.child("monitor.app"), signal.SIGKILL)
    expect(page.get_by_text("connection to the sound is lost")).to_be_visible()
    expect(page.get_by_test_id("play")).to_have_text("Play")
    expect(page.get_by_text("connection to the sound is lost")).to_be_hidden(timeout=30_000)
    bench.play()


def test_an_edit_made_while_the_server_is_away_is_late_not_lost(bench, page: Page, mivlo):
    bench.open_demo("Box drum")
    os.kill(mivlo.child("server.app"), signal.SIGKILL)
    page.mouse.move(*bench.point(385))
    page.keyboard.press("c")
    expect(page.get_by_text("all saved")).to_be_visible(timeout=30_000)
    session_id = page.evaluate("() => window.mivlo.session.state.value.id")
    tracks = page.request.get(f"/api/sessions/{session_id}").json()["tracks"]
    assert next(len(track["ledger"]) for track in tracks if track["name"] == "Box drum") == 1
    page.keyboard.press("Control+z")
    expect(page.get_by_test_id("move")).to_have_count(0)


def test_low_shapes_equal_the_browsers_own_filters(page: Page):
    # W3C Web Audio API, BiquadFilterNode (bilinear): all designs must meet where the axis is far below half the rate.
    page.goto("/")
    hz = np.geomspace(20, 1_000, 60)
    low_pass_q_db = 20 * np.log10(0.7071)  # in this API the Q of a high-pass is in dB
    cases = [
        ("peaking", 100, 8.0, -9.0, Bell(hz=100, gain_db=-9, q=8)),
        ("peaking", 431, 12.0, 6.0, Bell(hz=431, gain_db=6, q=12)),
        ("lowshelf", 200, 1.0, 6.0, LowShelf(hz=200, gain_db=6, q=0.7071)),
        ("highpass", 90, low_pass_q_db, 0.0, LowCut(hz=90, slope_db_per_octave=12)),
        ("notch", 300, 5.0, 0.0, Notch(hz=300, q=5)),
    ]
    script = """([type, frequency, Q, gain, hz]) => {
        const context = new OfflineAudioContext(1, 1, 48000)
        const filter = new BiquadFilterNode(context, { type, frequency, Q, gain })
        const magnitude = new Float32Array(hz.length)
        filter.getFrequencyResponse(new Float32Array(hz), magnitude, new Float32Array(hz.length))
        return [...magnitude]
    }"""
    for kind, frequency, q, gain_db, move in cases:
        theirs = np.array(page.evaluate(script, [kind, frequency, q, gain_db, hz.tolist()]))
        ours = np.abs(frequency_response(move.sections(RATE), hz, sample_rate_hz=RATE))
        loud = theirs > 0.01
        assert np.max(np.abs(20 * np.log10(ours[loud] / theirs[loud]))) < 0.05, kind


def test_nothing_is_fetched_from_elsewhere(page: Page, mivlo):
    asked: list[str] = []
    page.on("request", lambda request: asked.append(request.url))
    page.goto("/")
    page.get_by_test_id("session").first.click()
    page.get_by_test_id("spectrum").wait_for()
    assert asked
    assert all(url.startswith((mivlo.url, "data:", "blob:")) for url in asked)
    assert io.BytesIO(page.screenshot()).getbuffer().nbytes > 10_000


def test_from_a_dropped_folder_to_group_files_that_sum_to_the_mix(page: Page):
    stems = {"kick in.wav": wav(3.0), "lead vox.wav": wav(2.5, channels=2, seed=2), "bass.wav": wav(3.0, seed=3)}
    files = {**{name: list(data) for name, data in stems.items()}, "read me.txt": list(b"take three")}
    page.goto("/")
    expect(page.get_by_test_id("session").first).to_be_visible()
    page.evaluate(
        """(files) => {
            const transfer = new DataTransfer()
            for (const [name, bytes] of Object.entries(files))
                transfer.items.add(new File([new Uint8Array(bytes)], name))
            const drop = new DragEvent('drop', { dataTransfer: transfer, bubbles: true, cancelable: true })
            document.querySelector('.page').dispatchEvent(drop)
        }""",
        files,
    )
    expect(page.get_by_label("Files coming in")).to_contain_text("read me.txt: cannot be read as audio")
    page.get_by_test_id("go-on").click()
    page.wait_for_function("() => window.mivlo?.session.state.value.tracks.length === 3")
    state = page.evaluate("() => JSON.parse(JSON.stringify(window.mivlo.session.state.value))")
    assert [(one["name"], one["role"]) for one in state["tracks"]] == [
        ("kick in", "kick"), ("lead vox", "lead voice"), ("bass", "bass"),
    ]  # fmt: skip
    page.get_by_test_id("play").click()  # ready to play at once
    page.wait_for_function("() => window.mivlo.play.positionFrame.value > 0")
    page.get_by_test_id("play").click()
    ids = [one["id"] for one in state["tracks"]]
    groups = [f"{number:032x}" for number in (1, 2)]
    page.evaluate(
        """async ([ids, groups]) => {
            const { edit, known } = window.mivlo.session, [kick, vox, bass] = ids
            await edit('Groups', groups.map((id, at) => ({ do: 'add-group', group_id: id, name: `Group ${at}` })))
            const into = (id, group_id, gain_db) => ({ do: 'set-track', track_id: id,
                fields: { group_id, gain_db }, seen: { group_id: null, gain_db: 0 } })
            await edit('Members', [into(kick, groups[0], -3), into(bass, groups[0], 1), into(vox, groups[1], -6)])
            const move = { kind: 'bell', on: true, channel: 'both', hz: 300, gain_db: -6, q: 1 }
            await edit('A cut', [{ do: 'add-move', strip_id: groups[0], place: 'end', after_id: null,
                entry: { id: 'cut', move, reason: '', evidence: null, clash: null } }])
        }""",
        [ids, groups],
    )
    page.get_by_role("link", name="Hand-over").click()
    page.get_by_text("WAV, 32-bit float").click()
    made = []
    for what in ("Groups", "The mix"):
        page.locator("label", has_text=re.compile(f"^{what}$")).click()
        open_boxes = page.locator(".ask label.el-checkbox:not(.is-checked)").filter(has_text=re.compile("Group|gain"))
        while open_boxes.count():
            open_boxes.first.click()
        matched = page.locator("label.el-checkbox.is-checked", has_text="level-matched")
        if matched.count():
            matched.click()
        page.get_by_test_id("render").click()
        done = page.get_by_test_id("handover").first.get_by_test_id("download")
        expect(done).to_have_count(2 if what == "Groups" else 1, timeout=30_000)
        for link in done.all():
            answer = page.request.get(link.get_attribute("href"))
            made.append(soundfile.read(io.BytesIO(answer.body()), always_2d=True)[0])
    *parts, mix = made
    assert mix.shape == (3 * RATE, 2)
    assert np.abs(sum(parts) - mix).max() < 1e-6  # -120 dBFS
