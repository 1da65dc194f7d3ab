"""The Ensemble in the page: the demo's two planted clashes are seen, heard, decided, carved, proven and undone."""

import json
import re
from pathlib import Path

import numpy as np
import pytest
from playwright.sync_api import Locator, Page, expect
from playwright.sync_api import TimeoutError as PlaywrightTimeout

from mivlo.core.engine.mix import Mix
from mivlo.core.engine.render import replay

from ..conftest import Running
from .sessions import copy_of_demo
from .test_captured_sound import FRAMES, RATE, captured, opener

TRUTH = json.loads((Path(__file__).parents[2] / "demo" / "truth.json").read_text())
PLANTED = {frozenset(one["tracks"]): one for one in TRUTH["clashes"]}
LISTENING = "() => JSON.parse(JSON.stringify(window.mivlo.play.listening.value))"


def open_ensemble(page: Page, mivlo: Running) -> None:
    page.goto(f"/session/{copy_of_demo(mivlo)}/ensemble")
    fresh(page)


def fresh(page: Page) -> None:
    page.wait_for_function("() => window.mivlo?.ensemble.fresh.value", timeout=120_000)


def clash(page: Page, hidden: str, by: str) -> Locator:
    return page.locator(f"[data-test=clash][data-hidden='{hidden}'][data-by='{by}']").first


def choose(page: Page, hidden: str, by: str) -> Locator:
    one = clash(page, hidden, by)
    one.locator("button").first.click()
    expect(one.get_by_test_id("sentence")).to_be_visible()
    return one


def hold(page: Page, button: Locator) -> None:
    """Hold a button until it sounds; pressed again where the list has moved under the pointer meanwhile."""
    for patience_ms in (4_000, 20_000):
        button.hover()
        page.mouse.down()
        try:
            page.wait_for_function(
                "() => window.mivlo.play.positionFrame.value > 0 && window.mivlo.play.playing.value",
                timeout=patience_ms,
            )
            return
        except PlaywrightTimeout:
            page.mouse.up()
    pytest.fail("held, and nothing sounds")


@pytest.mark.parametrize(("hidden", "by"), [("Upright bass", "Cello"), ("Lead voice", "Squeezebox")])
def test_a_planted_clash_from_seeing_to_undoing(bench, page: Page, mivlo, hidden, by):
    planted = PLANTED[frozenset((hidden, by))]
    open_ensemble(page, mivlo)
    # Seen: among the first of those against the right of way, in its region, on both columns.
    first = page.get_by_test_id("clash").all()[:2]
    assert (hidden, by) in [(one.get_attribute("data-hidden"), one.get_attribute("data-by")) for one in first]
    one = choose(page, hidden, by)
    seen = page.evaluate("() => JSON.parse(JSON.stringify(window.mivlo.ensemble.clash.value))")
    common = np.log2(min(seen["high_hz"], planted["high_hz"]) / max(seen["low_hz"], planted["low_hz"]))
    assert common >= 0.5 * np.log2(planted["high_hz"] / planted["low_hz"])
    expect(page.get_by_test_id("region")).to_have_count(2)
    expect(page.locator(f"[data-test=column][data-name='{hidden}']")).to_contain_text("is hidden")

    # Heard: both there, and nobody else; let go, it stops.
    hold(page, one.get_by_test_id("hear-both"))
    now = page.evaluate(LISTENING)
    assert sorted(now["together"]["heard_ids"]) == sorted([seen["hidden"], seen["by"]])
    assert [slice_["kind"] for slice_ in now["held_probes"]] == ["only", "only"]
    page.mouse.up()
    page.wait_for_function("() => !window.mivlo.play.playing.value")

    # Decided: both stay, then the one that is hidden goes first.
    one.get_by_test_id("both-stay").check()
    bench.saved()
    fresh(page)
    expect(one.get_by_test_id("draft")).to_have_count(0)
    one.get_by_test_id("first").first.check()
    bench.saved()
    fresh(page)

    # Carved, by the least that does it within 4 dB, and proven.
    expect(one.get_by_test_id("draft")).to_contain_text("only while", timeout=60_000)
    one.get_by_test_id("accept").click()
    bench.saved()
    proof = one.get_by_test_id("proof")
    expect(proof).to_contain_text("gained", timeout=90_000)
    fresh(page)
    proven = page.evaluate("() => JSON.parse(JSON.stringify(window.mivlo.ensemble.proof.value))")
    assert proven["gained_percent"] > 1.0
    assert 0.0 < proven["cost_percent"] < 15.0
    page.wait_for_function("() => window.mivlo.play.match.value", timeout=60_000)
    one.get_by_test_id("yield-without").click()
    together = page.evaluate(LISTENING)["together"]
    assert (together["compares"], together["without"]) == ("one-move", True)
    tracks = page.evaluate("() => JSON.parse(JSON.stringify(window.mivlo.session.state.value.tracks))")
    moves = {entry["id"]: entry["move"] for track in tracks for entry in track["ledger"] if entry["clash"]}
    assert moves[together["entry_id"]]["listens_to"] == seen["hidden"]
    one.get_by_test_id("yield-with").click()
    page.get_by_test_id("tab-moves").click()
    page.get_by_test_id("filter").select_option("yields")
    expect(page.get_by_test_id("registered")).to_have_count(1)
    page.get_by_test_id("search").fill("give way nobody")
    expect(page.get_by_test_id("registered")).to_have_count(0)
    page.get_by_test_id("tab-clashes").click()

    # Undone: move and both decisions.
    for _ in range(3):
        page.get_by_role("button", name="undo").click()
        bench.saved()
    fresh(page)
    expect(proof).to_have_count(0)
    assert page.evaluate("() => window.mivlo.session.state.value.tracks.every((track) => !track.ledger.length)")


def test_a_pressed_cell_is_what_the_page_plays(page: Page, mivlo):
    open_ensemble(page, mivlo)
    page.get_by_test_id("press-it").click()
    cell = page.locator("[data-test=column][data-name='Cello'] [data-test=cell]").bounding_box()
    assert cell
    y = cell["y"] + cell["height"] * (1 - np.log2(150 / 20) / np.log2(1000))
    page.evaluate("() => window.mivlo.ensemble.alone.value = false")
    page.mouse.move(cell["x"] + cell["width"] / 2, y)
    page.mouse.down()
    page.wait_for_function("() => window.mivlo.play.playing.value")
    assert page.evaluate("() => window.mivlo.play.listening.value.together.heard_ids.length") == 1
    # Pressed, it is captured from a new start of play: only the cello's slice, as the engine renders it.
    played, sound = captured(page, 480_000, [])
    page.mouse.up()
    mix = Mix.model_validate(sound["startMix"])
    changes = [(change["frame"], Mix.model_validate(change["mix"])) for change in sound["changes"]]
    again = replay(mix, changes, opener(mivlo), start_frame=sound["startFrame"], n_frames=FRAMES, sample_rate_hz=RATE)
    assert np.array_equal(played, again.astype(np.float32))
    spectrum = np.abs(np.fft.rfft(played[0] * np.hanning(FRAMES))) ** 2
    hz = np.fft.rfftfreq(FRAMES, 1 / RATE)
    assert spectrum[(hz > 90) & (hz < 240)].sum() > 0.8 * spectrum.sum()


def test_what_the_plan_would_free_is_seen_before_anything_is_taken(page: Page, mivlo):
    open_ensemble(page, mivlo)
    button = page.get_by_test_id("pictured-planned")
    expect(button).to_have_text(re.compile("with the plan's [1-9]"), timeout=90_000)
    button.click()
    expect(page.get_by_text("what the plan would free")).to_be_visible()
    page.wait_for_function(
        "() => window.mivlo.ensemble.planIsHeard.value && window.mivlo.ensemble.ordered.value[0].freed", timeout=60_000
    )
    freed = page.evaluate(
        """() => Object.fromEntries(window.mivlo.ensemble.ordered.value.map((one) =>
            [one.name, [...atob(one.freed)].reduce((sum, letter) => sum + letter.charCodeAt(0), 0)]))"""
    )
    assert freed["Lead voice"] > 0  # who goes first, and was hidden
    assert max(freed, key=lambda name: freed[name]) in ("Lead voice", "Upright bass", "Box drum")
    ledgers = "() => window.mivlo.session.state.value.tracks.every((track) => !track.ledger.length)"
    assert page.evaluate(ledgers)


def test_the_order_is_dragged_and_the_close_view_shows_two(bench, page: Page, mivlo):
    open_ensemble(page, mivlo)
    heads = page.get_by_test_id("column-head")
    expect(heads.first).to_contain_text("Lead voice")
    names = page.get_by_test_id("column")
    moved = names.nth(5).get_attribute("data-name")
    heads.nth(5).drag_to(heads.first)
    bench.saved()
    expect(names.first).to_have_attribute("data-name", str(moved))
    heads.first.focus()
    page.keyboard.press("Shift+ArrowRight")
    bench.saved()
    expect(names.nth(1)).to_have_attribute("data-name", str(moved))
    fresh(page)
    heads.nth(0).click()
    heads.nth(1).click()
    page.get_by_test_id("close-view").click()
    expect(page.get_by_test_id("pair")).to_contain_text("how loud each is")
    rules = page.get_by_test_id("rules")  # whoever comes first in the order: not in this region
    for label, figure in (("Rule from", "4k"), ("Rule to", "F#5")):
        rules.get_by_label(label).fill(figure)
        rules.get_by_label(label).press("Enter")
    rules.get_by_role("button", name="both stay").click()
    bench.saved()
    expect(page.get_by_test_id("rule")).to_contain_text("740.0 Hz to 4.000 kHz: both stay")
    fresh(page)
    expect(rules.get_by_label("Rule from")).to_have_value("4.000 kHz")
    page.get_by_role("button", name="Remove the rule").click()
    bench.saved()
    expect(page.get_by_test_id("rule")).to_have_count(0)
    for _ in range(4):
        page.get_by_role("button", name="undo").click()
        bench.saved()
    fresh(page)
    page.get_by_test_id("close-view").click()
    expect(names.first).to_have_attribute("data-name", "Lead voice")


def test_the_mix_before_and_after_all_moves(bench, page: Page):
    bench.open_demo("Guitar")
    page.mouse.dblclick(*bench.point(900))
    bench.saved()
    page.get_by_role("link", name="Ensemble").click()
    page.get_by_test_id("tab-mix").click()
    expect(page.get_by_test_id("mix-compare")).to_contain_text("LUFS", timeout=90_000)
    page.get_by_test_id("mix-before").click()
    assert page.evaluate(LISTENING)["together"] == {
        "heard_ids": [], "compares": "all-moves", "entry_id": None, "without": True,
    }  # fmt: skip
    page.get_by_test_id("mix-after").click()
    assert page.evaluate(LISTENING)["together"]["without"] is False
    page.get_by_role("button", name="undo").click()
    bench.saved()
