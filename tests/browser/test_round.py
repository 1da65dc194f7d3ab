"""The round on the page: the demo's faults and clashes judged by keyboard alone, first what is heard; heard as rendered."""

import json
from pathlib import Path

import numpy as np
import pytest
from playwright.sync_api import Page, expect

from ..conftest import Running
from .sessions import copy_of_demo

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
        """Go to a row, downwards or upwards."""
        ids = self.page.evaluate("() => window.mivlo.round.rows.value.map((row) => row.id)")
        now = self.page.evaluate("() => window.mivlo.round.rowId.value")
        by = ids.index(row_id) - (ids.index(now) if now in ids else -1)
        for _ in range(abs(by)):
            self.press("ArrowDown" if by > 0 else "ArrowUp")
        assert self.row()["id"] == row_id

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
        if row["kind"] == "suspect" and row["says"].startswith(track)
        and (hz is None or (row["hz"] and abs(1200 * np.log2(row["hz"] / hz)) < 60))
        and (kind is None or row["suspects"][0]["suspect"]["kind"] == kind)
    ]  # fmt: skip
    assert found, (track, hz, kind, [row["says"] for row in told])
    return found[0]


def test_the_demos_round_by_keyboard_alone(page: Page, mivlo):
    opened(page, mivlo)
    keys = Keys(page)
    before = rows(page)
    heard = [row for row in before if row["kind"] == "suspect" and row["status"] == "to judge"]
    assert [row["weight"] for row in before] == sorted((row["weight"] for row in before), reverse=True)
    # What is planted stands among the first of the list.
    voice = [of(before, "Lead voice", kind=kind) for kind in ("plosive", "sibilance")]
    fiddle = of(before, "Fiddle", kind="harsh")
    assert {row["id"] for row in (*voice, fiddle)} <= {row["id"] for row in heard[:5]}
    keys.press("ArrowDown")
    expect(page.get_by_test_id("play")).to_have_text("Stop")  # it plays at once
    keys.press("s")
    expect(page.get_by_text("all saved")).to_be_visible()
    planted = [("Upright bass", 98.6), ("Frame drum", 431.0), ("Squeezebox", 2937.0), ("Box drum", 385.0)]
    keys.answer("cellar", "x")
    page.wait_for_function("() => window.mivlo.round.view.value?.plan?.moves.length > 2", timeout=120_000)
    keys.to("plan")
    keys.press("p")
    page.wait_for_function("() => window.mivlo.play.draftId.value")
    while page.evaluate("() => window.mivlo.round.planned.value < window.mivlo.round.view.value.plan.moves.length"):
        keys.press(".")
    keys.answer("plan", "x")
    for track, hz in planted:
        row = of(rows(page), track, hz)
        if row["status"] == "to judge":
            keys.answer(row["id"], "x")
    all_heard(page)
    # What is only better goes deeper by another key, until it is cured.
    wanted = [("Lead voice", None, "sibilance"), ("Lead voice", None, "plosive"), ("Fiddle", None, "harsh")]
    wanted += [(track, hz, None) for track, hz in planted]
    for _ in range(4):
        left = [row for row in (of(rows(page), *one) for one in wanted) if not row["told"].startswith("cured")]
        for row in left:
            keys.answer(row["id"], "x")
        if left:
            all_heard(page)
    told = [of(rows(page), *one) for one in wanted]
    for row in rows(page):
        if row["told"]:
            print(row["says"], "|", row["told"], row["status"])
    print(keys.pressed)
    assert all(row["told"].startswith("cured") for row in told)
    assert keys.pressed < MOST_KEYS
    proofs = {frozenset(row["says"].split(" from ")[0].split(" is hidden by ")): row for row in rows(page) if row["kind"] == "clash"}
    for clash in TRUTH["clashes"]:
        assert proofs[frozenset(clash["tracks"])]["status"] == "done"
