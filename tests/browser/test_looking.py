"""What the lanes show and what a passage is good for: sections, moves with times, spots, held probes, treated
pictures."""

import numpy as np
import pytest
from playwright.sync_api import Page, expect

from mivlo.core.engine.mix import Mix
from mivlo.core.engine.render import render_mix

from .conftest import FLAGS
from .sessions import copy_of_demo
from .test_access import OUTSIDE, SCREENS
from .test_captured_sound import FRAMES, RATE, captured, opener

LOOP = "() => { const s = window.mivlo.session.state.value; return [s.loop_start_frame, s.loop_end_frame] }"


def undo_until(bench, page: Page, done: str) -> None:
    while not page.evaluate(f"() => {done}"):
        page.get_by_role("button", name="undo").click()
        bench.saved()


def test_a_passage_gets_a_name_and_a_move_acts_there_alone(bench, page: Page):
    bench.open_demo("Cello")
    before = page.evaluate("() => window.mivlo.session.state.value.sections.length")
    page.get_by_test_id("section").filter(has_text="Verse two").click()
    bench.saved()
    loop = page.evaluate(LOOP)
    assert loop == [864_000, 1_555_200]
    x, y = bench.point(500)
    page.mouse.dblclick(x, y)
    bench.saved()
    page.get_by_test_id("times").get_by_role("button", name="Verse two").click()
    bench.saved()
    assert bench.chosen()["ledger"][0]["move"]["times_s"] == [[18, 32.4]]
    page.get_by_test_id("times").get_by_role("button", name="Close").click()
    bench.saved()
    assert bench.chosen()["ledger"][0]["move"]["times_s"] == [[18, 36]]  # what touches is one stretch
    with page.expect_response(lambda answer: "difference" in (answer.request.post_data or "")) as asked:
        page.get_by_role("button", name="difference").click()
    assert asked.value.status == 200
    page.wait_for_function("() => !window.mivlo.views.waits.value", timeout=60_000)
    wave = page.get_by_test_id("waveform").bounding_box()
    assert wave
    page.mouse.move(wave["x"] + 100, wave["y"] + 40)
    page.mouse.down()
    page.mouse.move(wave["x"] + 200, wave["y"] + 40, steps=4)
    page.mouse.up()
    page.get_by_test_id("section-name").fill("Answer")
    page.get_by_test_id("section-name").press("Enter")
    bench.saved()
    expect(page.get_by_test_id("section").filter(has_text="Answer")).to_have_attribute("aria-pressed", "true")
    page.get_by_test_id("remove-section").click()
    bench.saved()
    assert page.evaluate("() => window.mivlo.session.state.value.sections.length") == before
    loop_is_gone = "window.mivlo.session.state.value.loop_start_frame === null"
    page.wait_for_load_state("networkidle")  # pictures that are under way would hold up the server's end
    undo_until(bench, page, f"window.mivlo.session.chosen.value.ledger.length === 0 && {loop_is_gone}")


def test_a_spot_is_looped_and_pinned_and_probes_can_be_held(bench, page: Page):
    bench.open_demo("Guitar")
    lane = page.get_by_test_id("spectrogram").bounding_box()
    assert lane
    _, y = bench.point(1_000)
    page.mouse.click(lane["x"] + lane["width"] / 2, y)
    bench.saved()
    pin = bench.chosen()["pins"][0]
    assert 950 < pin["hz"] < 1_050
    rate = 48_000
    start, end = page.evaluate(LOOP)
    assert start < page.evaluate("() => window.mivlo.bench.songS.value") / 2 * rate < end
    assert (end - start) / rate < 2
    page.get_by_role("button", name="undo").click()
    bench.saved()
    assert bench.chosen()["pins"] == []
    assert page.evaluate(LOOP) == [None, None]
    for hz in (700, 2_500):
        page.mouse.move(*bench.point(hz))
        page.mouse.down()
        page.keyboard.down("Shift")
        page.mouse.up()
        page.keyboard.up("Shift")
    held = page.evaluate("() => window.mivlo.play.heldProbes.value.map((probe) => Math.round(probe.hz / 100))")
    assert held == [7, 25]
    page.keyboard.press("Escape")
    assert page.evaluate("() => window.mivlo.play.heldProbes.value.length") == 0
    page.get_by_role("button", name="hold peaks").click()
    page.wait_for_function("() => window.mivlo.views.peaks.value !== null")
    first = page.evaluate("() => window.mivlo.views.peaks.value")
    page.wait_for_timeout(700)
    later = page.evaluate("() => window.mivlo.views.peaks.value")
    assert all(b >= a for a, b in zip(first, later, strict=True))
    page.get_by_test_id("play").click()
    page.wait_for_load_state("networkidle")


def test_the_spectrum_is_drawn_as_smooth_as_was_chosen_also_live_and_after_a_reload(bench, page: Page):
    def steps(levels: str) -> float:
        return page.evaluate(
            """(path) => {
              const levels = path.split('.').reduce((at, name) => at[name], window.mivlo).value
              const db = (levels.level_db ?? levels.after_db).slice(240, 430)
              return db.slice(1).reduce((sum, one, at) => sum + Math.abs(one - db[at]), 0)
            }""",
            levels,
        )

    bench.open_demo("Fiddle")
    page.wait_for_function("() => window.mivlo.bench.spectrum.value")
    measured = steps("bench.spectrum")
    stands_out = page.evaluate("() => window.mivlo.bench.spectrum.value.stands_out_db")
    with page.expect_response("**/analyses/spectrum*"):
        page.get_by_test_id("smoothing").select_option(label="over 1/3 octave")
    page.wait_for_timeout(300)
    assert steps("bench.spectrum") < 0.5 * measured
    assert page.evaluate("() => window.mivlo.bench.spectrum.value.stands_out_db") == stands_out
    page.reload()
    expect(page.get_by_test_id("smoothing")).to_have_value("1/3")
    page.wait_for_function("() => window.mivlo.bench.spectrum.value")
    assert steps("bench.spectrum") < 0.5 * measured
    bench.play()
    page.wait_for_function("() => window.mivlo.play.spectra.value")
    smooth = steps("play.spectra")
    page.get_by_test_id("smoothing").select_option("none")
    page.wait_for_timeout(1_000)
    assert smooth < 0.5 * steps("play.spectra")


def test_by_pitch_a_typed_note_is_marked_sounds_and_becomes_a_family(bench, page: Page, mivlo):
    bench.open_demo("Guitar")
    page.wait_for_load_state("networkidle")
    ruler = page.get_by_test_id("ruler").bounding_box()
    assert ruler
    page.mouse.click(ruler["x"] + 40, bench.point(441)[1])
    marked = page.get_by_test_id("pipe").locator("..")
    expect(marked).to_contain_text("A4 and its overtones")
    typed = page.get_by_test_id("typed-note")
    for wrong in ("H9", "50 kHz", "loud"):
        typed.fill(wrong)
        typed.press("Enter")
        expect(typed).to_have_attribute("aria-invalid", "true")
    typed.fill("A3 +30")
    typed.press("Enter")
    hz = 220.0 * 2 ** (30 / 1_200)  # references 4.1 and 4.2: A3 is 220 Hz, a cent the 1200th root of two
    expect(marked).to_contain_text("223.8 Hz")
    page.wait_for_function("() => window.mivlo.play.match.value")
    box = page.get_by_test_id("pipe").bounding_box()
    assert box
    page.mouse.move(box["x"] + 10, box["y"] + 6)
    page.mouse.down()
    page.mouse.move(box["x"] + 20, box["y"] + 9)  # the tone stays where it is, though the pointer moves over the lane
    page.wait_for_timeout(700)
    played, sound = captured(page, 240_000, [])
    page.mouse.up()
    assert page.evaluate("() => window.mivlo.play.pipeHz.value") is None
    mix, start = Mix.model_validate(sound["startMix"]), sound["startFrame"]
    assert mix.pipe_hz == pytest.approx(hz)
    silent = mix.model_copy(update={"pipe_hz": None})
    blocks = list(render_mix(silent, opener(mivlo), start=start, end=start + FRAMES, sample_rate_hz=RATE))
    tone = (played - np.concatenate(blocks, axis=1))[0, RATE // 2 :]
    spectrum = np.abs(np.fft.rfft(tone * np.hanning(len(tone)), 2**21))
    assert 1_200 * np.log2(spectrum.argmax() * RATE / 2**21 / hz) == pytest.approx(0.0, abs=1.0)
    assert 20 * np.log10(np.sqrt(2 * np.mean(tone**2))) == pytest.approx(-32.0, abs=0.1)  # soft, whatever plays
    page.get_by_test_id("family").click()
    bench.saved()
    family = bench.chosen()["ledger"][0]["move"]
    assert family["kind"] == "note-family"
    assert family["hz"] == pytest.approx(hz)
    expect(page.get_by_test_id("move").get_by_role("group", name="Left out")).to_be_visible()
    undo_until(bench, page, "window.mivlo.session.chosen.value.ledger.length === 0")


@pytest.mark.parametrize("size", [(1024, 700), (1280, 800), (1920, 1080)])
@pytest.mark.parametrize("text_px", [16, 32])
def test_nothing_overlaps_or_leaves_the_window_also_with_text_twice_as_large(browser, mivlo, size, text_px):
    """Text is as large as somebody has set it in the browser, not zoomed."""
    sized = browser.browser_type.launch(
        executable_path="/usr/bin/chromium", args=[*FLAGS, f"--blink-settings=defaultFontSize={text_px}"]
    )
    page = sized.new_page(base_url=mivlo.url, viewport={"width": size[0], "height": size[1]})
    address = f"/session/{copy_of_demo(mivlo)}"
    found = {}
    for screen in ("/", *(f"{address}/{one}" for one in SCREENS)):
        page.goto(screen)
        page.get_by_test_id("play" if screen != "/" else "bring").wait_for(state="attached")
        page.wait_for_timeout(500)
        if wrong := page.evaluate(OUTSIDE):
            found[screen.removeprefix(address)] = wrong
    # With all that the bar can hold, and the pressure test below: the axis is as high as there is room.
    page.goto(f"{address}/bench")
    page.wait_for_function("() => window.mivlo?.bench.laneSize.value.height > 1")
    for count in (2, 3, 4):
        page.evaluate("() => window.mivlo.treatments.makeEmpty()")
        page.wait_for_function(f"() => window.mivlo.session.saved.value.treatments.length === {count}")
    page.keyboard.press("u")
    page.get_by_test_id("pressure-panel").wait_for()
    page.evaluate("() => { window.mivlo.session.saveState.value = 'waiting' }")
    page.wait_for_timeout(500)
    if wrong := page.evaluate(OUTSIDE):
        found["all of it"] = wrong
    heights = page.evaluate("() => [...document.querySelectorAll('.lanes, .lanes > *')].map((one) => one.clientHeight)")
    sized.close()
    assert found == {}
    assert len(set(heights)) == 1
