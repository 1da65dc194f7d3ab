"""The round on the page: the demo's faults and clashes judged by keyboard alone, first what is heard."""

import json
from pathlib import Path

import numpy as np
from playwright.sync_api import Page, expect

from mivlo.core.engine.mix import Mix
from mivlo.core.engine.render import replay

from ..conftest import Running
from .sessions import copy_of_demo
from .test_captured_sound import FRAMES, RATE, captured, opener

PLANTED = [("Upright bass", 98.6), ("Frame drum", 431.0), ("Squeezebox", 2937.0), ("Box drum", 385.0)]
TRUTH = json.loads((Path(__file__).parents[2] / "demo" / "truth.json").read_text())
MOST_KEYS = 40
ROWS = "() => JSON.parse(JSON.stringify(window.mivlo.round.rows.value))"


class Keys:
    """Presses keys, and counts them."""

    def __init__(self, page: Page) -> None:
        self.page, self.pressed = page, 0

    def press(self, key: str) -> None:
        self.page.keyboard.press(key)
        self.pressed += 1

    def row(self) -> dict:
        return self.page.evaluate("() => JSON.parse(JSON.stringify(window.mivlo.round.row.value))")

    def to(self, row_id: str) -> None:
        """Go to a row, downwards or upwards, looking anew at each step: rows move when more of them is heard."""
        where = """(id) => { const round = window.mivlo.round, ids = round.rows.value.map((row) => row.id)
            return ids.indexOf(id) - ids.indexOf(round.rowId.value) }"""
        while (by := self.page.evaluate(where, row_id)) != 0:
            assert self.pressed < MOST_KEYS
            self.press("ArrowDown" if by > 0 else "ArrowUp")

    def answer(self, row_id: str, key: str) -> None:
        self.to(row_id)
        self.press(key)
        self.page.wait_for_function("(id) => window.mivlo.round.rowId.value !== id", arg=row_id)
        expect(self.page.get_by_text("all saved")).to_be_visible()


def rows(page: Page) -> list[dict]:
    return page.evaluate(ROWS)


def all_heard(page: Page) -> None:
    page.wait_for_function("() => window.mivlo?.round.allHeard.value", timeout=180_000)


def opened(page: Page, mivlo: Running) -> str:
    session_id = copy_of_demo(mivlo)
    page.goto(f"/session/{session_id}/round")
    all_heard(page)
    return session_id


def of(told: list[dict], track: str, hz: float | None = None, kind: str | None = None) -> dict:
    """Return the row of a track's suspect at a place, or of a kind."""
    found = [
        row for row in told
        if row["kind"] == "suspect" and row["sentence"].startswith(track)
        and (hz is None or (row["hz"] and abs(1200 * np.log2(row["hz"] / hz)) < 60))
        and (kind is None or row["suspects"][0]["suspect"]["kind"] == kind)
    ]  # fmt: skip
    assert found, (track, hz, kind, [row["sentence"] for row in told])
    return found[0]


def test_the_demos_round_by_keyboard_alone(page: Page, mivlo):
    opened(page, mivlo)
    keys = Keys(page)
    before = rows(page)
    to_judge = [row for row in before if row["status"] == "to judge"]
    assert [row["weight"] for row in to_judge] == sorted((row["weight"] for row in to_judge), reverse=True)
    # What is planted in the voice and the fiddle stands among the first of the list.
    first = {row["id"] for row in to_judge[:5]}
    for track, kind in (("Lead voice", "plosive"), ("Lead voice", "sibilance"), ("Fiddle", "harsh")):
        assert of(before, track, kind=kind)["id"] in first
    keys.press("ArrowDown")
    expect(page.get_by_test_id("play")).to_have_text("Stop")  # it plays at once
    looped = page.evaluate("() => window.mivlo.play.listening.value.loop")
    assert looped == [round(at * 48_000) for at in to_judge[0]["loop_s"]]
    keys.press("s")
    expect(page.get_by_text("all saved")).to_be_visible()
    keys.answer("cellar", "x")
    page.wait_for_function("() => window.mivlo.round.view.value?.plan?.moves.length > 2", timeout=120_000)
    keys.to("plan")
    keys.press("p")
    page.wait_for_function("() => window.mivlo.play.draftId.value")
    while page.evaluate("() => window.mivlo.round.planned.value < window.mivlo.round.view.value.plan.moves.length"):
        keys.press(".")
    keys.answer("plan", "x")
    for track, hz in PLANTED:
        # A list from before the last answer may still call open what is drafted by now.
        page.wait_for_function("() => window.mivlo.round.upToDate.value", timeout=60_000)
        row = of(rows(page), track, hz)
        if not row["entries"]:  # what is sure enough was drafted already
            keys.answer(row["id"], "x")
    assert keys.pressed < MOST_KEYS
    page.get_by_test_id("play").click()
    all_heard(page)
    told = rows(page)
    wanted = [("Lead voice", None, "sibilance"), ("Lead voice", None, "plosive"), ("Fiddle", None, "harsh")]
    for track, hz, kind in (*wanted, *((track, hz, None) for track, hz in PLANTED)):
        row = of(told, track, hz, kind)
        assert row["outcome"].startswith(("cured", "better")), row["outcome"]
        assert row["status"] == "done" or row["deeper"]  # what is only better is offered to go deeper
    assert sum(of(told, *one)["outcome"].startswith("cured") for one in PLANTED) >= 2
    answered = [row for row in told if row["kind"] == "clash" and row["entries"]]
    for clash in TRUTH["clashes"]:
        one = next(row for row in answered if all(name in row["sentence"] for name in clash["tracks"]))
        assert one["status"] == "done"
        assert "gained" in one["outcome"]
    page.keyboard.press("?")
    expect(page.get_by_test_id("keys")).to_contain_text("do what is proposed")


def test_a_row_is_heard_in_its_loop_put_off_and_taken_back_by_undo(page: Page, mivlo):
    opened(page, mivlo)
    row = page.get_by_test_id("round-suspect").nth(2)
    row.click()
    chosen = page.evaluate("() => JSON.parse(JSON.stringify(window.mivlo.round.row.value))")
    page.get_by_test_id("play").click()
    heard, sound = captured(page, round(chosen["loop_s"][0] * RATE), [])
    changes = [(change["frame"], Mix.model_validate(change["mix"])) for change in sound["changes"]]
    mix = Mix.model_validate(sound["startMix"])
    assert mix.loop_start_frame == round(chosen["loop_s"][0] * RATE)
    played = replay(mix, changes, opener(mivlo), start_frame=sound["startFrame"], n_frames=FRAMES, sample_rate_hz=RATE)
    assert np.array_equal(heard, played.astype(np.float32))
    page.get_by_test_id("answer-later").click()
    expect(page.get_by_test_id("round-counts")).to_contain_text("1 later")
    page.get_by_role("button", name="undo").click()
    expect(page.get_by_test_id("round-counts")).to_contain_text("0 later")
    page.get_by_test_id("round-order").select_option("track")
    expect(page.get_by_test_id("round-suspect").first).to_contain_text("Lead voice")
