"""Proof on the page: a second treatment switched while it plays, blind checks answered by ear alone, a likeness."""

import numpy as np
import pytest
import soundfile
from playwright.sync_api import Page, expect

from mivlo.core.engine.mix import Mix, mix_of_session
from mivlo.core.engine.render import render_mix, replay
from mivlo.core.model import Session
from mivlo.core.units import db_to_gain

from ..conftest import Running
from .sessions import copy_of_demo
from .test_captured_sound import FRAMES, RATE, captured, opener

LISTENED_MS = 90_000  # beside all that is listened to in the background
FADED = 1_024  # frames behind a switch in which both sides are heard


def opened(page: Page, mivlo: Running, track: str) -> str:
    session_id = copy_of_demo(mivlo)
    page.goto(f"/session/{session_id}/proof")
    page.get_by_test_id("part-blind").click()
    page.get_by_test_id("blind-track").select_option(label=track)
    return session_id


def add_bell(page: Page, gain_db: float, hz: float = 431.0) -> None:
    move = {"kind": "bell", "on": True, "channel": "both", "hz": hz, "gain_db": gain_db, "q": 2}
    page.evaluate("(move) => window.mivlo.edits.addMove(move)", move)
    saved(page)


def saved(page: Page) -> None:
    page.wait_for_function("() => window.mivlo.session.pending.value.length === 0")
    expect(page.get_by_text("all saved")).to_be_visible()


def test_another_treatment_is_made_switched_while_it_plays_and_kept(page: Page, mivlo):
    session_id = opened(page, mivlo, "Frame drum")
    page.get_by_test_id("make-copy").click()
    expect(page.get_by_test_id("treatment-B")).to_have_attribute("aria-pressed", "true")
    add_bell(page, -12.0)
    expect(page.get_by_test_id("differences")).to_contain_text("with a 431 Hz bell, \u221212.0 dB")
    page.keyboard.press("a")  # in the mix
    page.get_by_test_id("play").click()
    expect(page.get_by_test_id("beside-ready")).to_be_visible()  # within a second, and then said by its mark
    page.get_by_test_id("play").click()
    page.keyboard.press("Shift+A")
    heard, sound = captured(page, 480_000, [{"treatment": "B"}, {"treatment": "A"}, {"treatment": "B"}], FRAMES)
    changes = [(change["frame"], Mix.model_validate(change["mix"])) for change in sound["changes"]]
    first, start = Mix.model_validate(sound["startMix"]), sound["startFrame"]
    again = replay(first, changes, opener(mivlo), start_frame=start, n_frames=FRAMES, sample_rate_hz=RATE)
    assert np.array_equal(heard, again.astype(np.float32))
    # Behind each switch, it is the render of that treatment, to the sample, as loud as the other one.
    state = page.request.get(f"/api/sessions/{session_id}").json()
    own = {name: value for name, value in state.items() if name in Session.model_fields}
    session = Session.model_validate(own)
    sides = {}
    for letter in "AB":
        blocks = render_mix(
            mix_of_session(session.as_treated(letter)), opener(mivlo), start=start, end=start + FRAMES,
            sample_rate_hz=RATE,
        )  # fmt: skip
        sides[letter] = np.concatenate(list(blocks), axis=1)
    switches = [(frame, mix) for frame, mix in [(0, first), *changes] if mix.sides is not None]
    assert {mix.sides.other_heard for _, mix in switches} == {True, False}
    for (frame, mix), (until, _) in zip(switches, [*switches[1:], (FRAMES, None)], strict=True):
        letter, by_db = ("B", mix.sides.other_db) if mix.sides.other_heard else ("A", mix.sides.this_db)
        if until - frame > 2 * FADED:
            part = slice(frame + FADED, until - FADED)
            expected = (sides[letter] * db_to_gain(by_db)).astype(np.float32)
            assert np.array_equal(heard[:, part], expected[:, part]), (letter, frame)
    page.get_by_test_id("keep-B").click()
    saved(page)
    expect(page.get_by_test_id("treatment-B")).to_have_count(0)
    page.get_by_role("button", name="undo").click()
    expect(page.get_by_test_id("treatment-B")).to_be_visible()


class Ear:
    """Hears what is pressed, and nothing else of the page."""

    def __init__(self, page: Page) -> None:
        self.page = page

    def hear(self, press: str, n_frames: int = 24_000) -> np.ndarray:
        self.page.get_by_test_id(f"press-{press}").click()
        self.page.wait_for_function("() => !window.mivlo.play.measuring.value")
        sound, _ = captured(self.page, 240_000, [], n_frames)
        return sound[:, n_frames // 2 :].astype(float)

    def say(self, side: str) -> None:
        """Answer, and wait for the next trial or the result: what is pressed then is of that."""
        run = self.page.get_by_test_id("blind-run").locator("p").first
        trial = run.inner_text()
        self.page.get_by_test_id(f"say-{side}").click()
        expect(run).not_to_have_text(trial)


@pytest.mark.parametrize(("gain_db", "least", "most"), [(-12.0, 10, 10), (0.0, 1, 9)])
def test_who_hears_only_the_sound_gets_all_right_where_there_is_something(page: Page, mivlo, gain_db, least, most):
    opened(page, mivlo, "Frame drum")
    add_bell(page, gain_db)
    page.get_by_test_id("begin-blind").click()
    expect(page.get_by_test_id("blind-run")).to_be_visible()
    ear, seen = Ear(page), set()
    a, b = ear.hear("A"), ear.hear("B")  # the same sides through all trials
    for _ in range(10):
        x = ear.hear("X")
        seen.add((page.title(), page.locator(".top").inner_text()))
        far = [np.abs(x - side).max() for side in (a, b)]
        ear.say("A" if far[0] <= far[1] else "B")
    told = page.get_by_test_id("blind-found").inner_text()
    right = int(told.split(" of ")[0])
    assert least <= right <= most
    page.get_by_test_id("blind-done").click()
    expect(page.get_by_test_id("blind-results")).to_contain_text(f"{right} of 10 right")
    assert len({title for title, _ in seen}) == 1


def test_the_least_that_is_heard_is_found_and_given_to_the_move(page: Page, mivlo):
    """A listener who hears a dip at 431 Hz from 4 dB on, and guesses below."""
    opened(page, mivlo, "Frame drum")
    add_bell(page, -12.0)
    page.get_by_test_id("asks-least").check()
    page.get_by_test_id("blind-what").select_option("one-move")
    page.get_by_test_id("blind-move").select_option(index=1)
    page.get_by_test_id("blind-matched").uncheck()
    page.get_by_test_id("begin-blind").click()
    ear, random = Ear(page), np.random.default_rng(5)
    window = np.hanning(4_800)
    bins = slice(38, 49)  # 380 to 490 Hz

    def level_db(sound: np.ndarray) -> float:
        return float(10.0 * np.log10(np.sum(np.abs(np.fft.rfft(sound.mean(axis=0) * window)[bins]) ** 2)))

    for _ in range(40):
        if page.get_by_test_id("blind-found").count():
            break
        levels = [level_db(ear.hear(press, 9_600)) for press in "AB"]
        heard = abs(levels[0] - levels[1]) > 4.0 * 0.8  # the dip's mean over the band is less than at its middle
        says = "A" if levels[0] < levels[1] else "B"
        ear.say(says if heard else "AB"[int(random.integers(2))])
    expect(page.get_by_test_id("blind-found")).to_contain_text("heard from")
    page.get_by_test_id("blind-done").click()
    page.get_by_test_id("take-least").click()
    saved(page)
    depth_db = page.evaluate("() => window.mivlo.session.chosen.value.ledger[0].move.gain_db")
    assert -6.5 < depth_db < -2.5


def test_a_likeness_is_heard_taken_and_undone(page: Page, mivlo):
    opened(page, mivlo, "Fiddle")
    page.get_by_test_id("part-likeness").click()
    page.get_by_test_id("towards").select_option(label="Squeezebox")
    expect(page.get_by_test_id("likeness-told")).to_contain_text("dB apart", timeout=60_000)
    before, after = page.evaluate(
        """() => document.querySelector('[data-test=likeness-told]').innerText.match(/[0-9.]+(?= dB)/g).map(Number)"""
    )
    assert after < 0.8 * before
    page.get_by_test_id("take-likeness").click()
    saved(page)
    ledger = "() => window.mivlo.session.chosen.value.ledger.length"
    assert 1 <= page.evaluate(ledger) <= 6
    page.get_by_role("button", name="undo").click()
    saved(page)
    assert page.evaluate(ledger) == 0


def test_what_was_done_is_shown_and_printed(page: Page, mivlo):
    session_id = opened(page, mivlo, "Frame drum")
    add_bell(page, -6.0)
    page.get_by_test_id("part-report").click()
    expect(page.get_by_test_id("report-moves")).to_contain_text("431 Hz bell, −6.0 dB")
    expect(page.get_by_test_id("report-figures")).to_contain_text("True peak", timeout=60_000)
    assert page.get_by_test_id("report-page").get_attribute("href") == f"/api/sessions/{session_id}/report?treatment=A"
    page.goto(f"/api/sessions/{session_id}/report?treatment=A")
    expect(page.get_by_role("heading", name="Frame drum")).to_be_visible()
    expect(page.get_by_text("Loudness range")).to_be_visible()
    printed = page.pdf(prefer_css_page_size=True)
    assert printed.startswith(b"%PDF")
    assert b"/MediaBox [0 0 594" in printed or b"/MediaBox [0 0 595" in printed  # A4, in points


def test_both_sides_are_seen_on_one_axis_and_heard_from_where_they_are_pressed(page: Page, mivlo):
    opened(page, mivlo, "Frame drum")
    add_bell(page, -12.0)
    page.get_by_test_id("part-sides").click()
    page.get_by_test_id("sides-of").select_option(label="Frame drum")
    expect(page.get_by_test_id("side-figures")).to_contain_text("Crest factor", timeout=LISTENED_MS)
    page.wait_for_function("() => window.mivlo.play.match.value", timeout=LISTENED_MS)
    told = page.get_by_test_id("side-figures").locator("tr", has_text="Loudness").first.locator("td")
    before, after = (float(one.replace("\u2212", "-")) for one in told.all_inner_texts()[:2])
    assert before > after
    expect(page.get_by_test_id("masking").locator("td").first).to_contain_text("%", timeout=LISTENED_MS)
    # What is pressed plays from there, on that side; let go, all is as it was: silent.
    box = page.get_by_test_id("side-before").bounding_box()
    page.mouse.move(box["x"] + box["width"] / 2, box["y"] + 80)
    page.mouse.down()
    expect(page.get_by_test_id("play")).to_have_text("Stop")
    now = page.evaluate("() => ({ ...window.mivlo.play.listening.value, at: window.mivlo.play.positionFrame.value })")
    assert now["compared"]["other_heard"]
    whole = page.evaluate("() => window.mivlo.play.songFrames.value")
    assert 0.45 * whole < now["at"] < 0.6 * whole
    page.mouse.up()
    expect(page.get_by_test_id("play")).to_have_text("Play")
    assert not page.evaluate("() => window.mivlo.play.listening.value.compared.other_heard")
    # With Shift only what lies under the pointer, on that side.
    hz = 431.0
    at = box["y"] + box["height"] * (1.0 - np.log2(hz / 20.0) / np.log2(1_000.0))
    page.mouse.move(box["x"] + box["width"] / 2, at)
    page.keyboard.down("Shift")
    page.mouse.down()
    page.wait_for_function("() => window.mivlo.play.playing.value && window.mivlo.play.listening.value.probe")
    played, _ = captured(page, 480_000, [])
    page.mouse.up()
    page.keyboard.up("Shift")
    spectrum = np.abs(np.fft.rfft(played[0] * np.hanning(FRAMES))) ** 2
    within = np.abs(np.log2(np.maximum(np.fft.rfftfreq(FRAMES, 1 / RATE), 1.0) / hz)) < 0.5
    assert spectrum[within].sum() > 0.8 * spectrum.sum() > 0.0
    page.wait_for_function("() => !window.mivlo.play.playing.value && !window.mivlo.play.listening.value.probe")


def test_a_reference_is_brought_in_heard_by_one_key_equally_loud_and_drawn_towards(page: Page, mivlo, tmp_path):
    opened(page, mivlo, "Frame drum")
    file = 0.02 * np.random.default_rng(5).standard_normal((20 * RATE, 2))
    file[:, 0] += 0.05 * np.sin(2 * np.pi * 220.0 * np.arange(len(file)) / RATE)
    soundfile.write(tmp_path / "somebody else's mix.wav", file, RATE, "FLOAT")
    page.get_by_test_id("part-references").click()
    page.get_by_test_id("add-reference").set_input_files(tmp_path / "somebody else's mix.wav")
    expect(page.get_by_test_id("reference-told")).to_contain_text("to hear both equally loud", timeout=LISTENED_MS)
    page.get_by_test_id("part-blind").click()  # on any screen, only held
    page.get_by_test_id("play").click()
    page.evaluate("() => window.mivlo.play.seek(96_000)")
    page.keyboard.down("r")
    page.wait_for_function("() => window.mivlo.references.heard.value && !window.mivlo.play.measuring.value")
    heard, sound = captured(page, 96_000, [])
    mix = Mix.model_validate(sound["startMix"])
    assert mix.sides.other_heard
    start = sound["startFrame"]
    part = slice(FADED, FRAMES)
    expected = file.T[:, start : start + FRAMES] * db_to_gain(mix.sides.other_db)
    assert np.abs(heard - expected.astype(np.float32))[:, part].max() < 2.0**-22
    page.keyboard.up("r")
    page.wait_for_function("() => window.mivlo.play.beside.value === null")
    state = page.evaluate("() => JSON.parse(JSON.stringify(window.mivlo.session.saved.value))")
    assert len(state["references"]) == 1
    assert all(one["audio_id"] != state["references"][0]["audio_id"] for one in state["tracks"])
    page.get_by_test_id("part-likeness").click()
    page.get_by_test_id("towards").select_option(label="somebody else's mix (reference)")
    expect(page.get_by_test_id("likeness-told")).to_contain_text("dB apart")
    page.get_by_role("button", name="undo").click()
    expect(page.get_by_test_id("towards").locator("option", has_text="(reference)")).to_have_count(0)


def test_a_remark_stands_in_the_round_and_on_the_printed_page(page: Page, mivlo):
    session_id = opened(page, mivlo, "Frame drum")
    page.evaluate("() => window.mivlo.play.positionFrame.value = 12.5 * 48_000")
    page.keyboard.press("e")
    page.get_by_test_id("remark-text").fill("rings <b>here</b>, says \u202ethe drummer")
    page.get_by_test_id("say-remark").click()
    saved(page)
    page.get_by_test_id("part-remarks").click()
    expect(page.get_by_test_id("remarks")).to_contain_text("rings <b>here</b>")
    printed = page.request.get(f"/api/sessions/{session_id}/report").text()
    assert "0:12.5: rings &lt;b&gt;here&lt;/b&gt;" in printed
    page.goto(f"/session/{session_id}/round")
    row = page.get_by_test_id("round-remark")
    expect(row).to_contain_text("Frame drum: rings")
    row.click()
    loop = page.evaluate("() => window.mivlo.play.listening.value.loop")
    assert loop == [11 * 48_000, 15 * 48_000]
    page.get_by_test_id("answer-fine").click()
    saved(page)
    expect(page.locator("[data-test=round-remark][data-status=done]")).to_be_visible()


def test_kept_moves_are_found_heard_and_taken_for_another_track(page: Page, mivlo):
    opened(page, mivlo, "Frame drum")
    add_bell(page, -9.0)
    page.get_by_test_id("part-kept").click()
    name = f"Ring <b>{np.random.default_rng().integers(1 << 40)}</b>"
    page.get_by_test_id("kept-name").fill(name)
    page.get_by_test_id("keep-moves").click()
    page.get_by_test_id("kept-sought").fill(name)
    kept = page.get_by_test_id("kept")
    expect(kept).to_have_count(1)
    expect(page.get_by_test_id("kept-elsewhere")).to_have_count(0)
    page.get_by_test_id("kept-track").select_option(label="Box drum")
    expect(kept).to_contain_text("Found on Frame drum: frequencies seldom carry over")
    kept.get_by_role("button", name="hold: with them").dispatch_event("pointerdown", {"pointerId": 1})
    page.wait_for_function("() => window.mivlo.play.draftId.value")
    page.get_by_test_id("kept-sought").focus()
    kept.get_by_role("button", name="hold: with them").dispatch_event("pointerup", {"pointerId": 1})
    page.wait_for_function("() => !window.mivlo.play.draftId.value")
    page.get_by_test_id("take-kept").click()
    page.wait_for_function("() => window.mivlo.session.chosen.value.ledger.length === 1")
    reasons = page.evaluate("() => window.mivlo.session.chosen.value.ledger.map((one) => one.reason)")
    assert reasons == [f"Kept: {name}"]
