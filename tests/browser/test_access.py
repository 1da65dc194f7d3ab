"""Everybody can use it: what an automatic check of accessibility (axe-core) finds on every screen, by day and night;
hostile names wherever a name is shown."""

import pytest
from playwright.sync_api import Page, expect

from ..conftest import ROOT
from .sessions import copy_of_demo

AXE = ROOT / "web/node_modules/axe-core/axe.min.js"
SCREENS = ("gather", "round", "bench", "ensemble", "proof", "hand-over")


def faults(page: Page) -> list[str]:
    """What the check finds, with the first place of each."""
    page.evaluate(AXE.read_text())
    return page.evaluate(
        """async () => (await axe.run(document)).violations.map(
          (one) => `${one.id} (${one.nodes.length}): ${one.help}: ${one.nodes[0].html.slice(0, 200)}`)"""
    )


@pytest.fixture
def busy_session(page: Page, mivlo) -> str:
    """A copy of the demo in which much is shown: a move, a suspect that is unfolded, a remark, a second treatment."""
    address = f"/session/{copy_of_demo(mivlo)}"
    page.goto(f"{address}/bench")
    page.get_by_role("button", name="Frame drum", exact=True).click()
    page.get_by_role("button", name="find suspects").click()
    page.get_by_test_id("answer-cut").click(timeout=60_000)
    expect(page.get_by_test_id("cure")).to_contain_text("dB out", timeout=60_000)
    page.get_by_test_id("suspect").first.get_by_role("button").first.click()
    return address


def test_nothing_is_found_on_any_screen_by_day_and_by_night(page: Page, busy_session):
    found: dict[str, list[str]] = {}

    def look(name: str) -> None:
        if wrong := faults(page):
            found[name] = wrong

    look("bench with a move and a suspect")
    page.keyboard.press("?")
    look("keys")
    page.keyboard.press("Escape")
    for theme in ("day", "night"):
        for screen in SCREENS:
            page.goto(f"{busy_session}/{screen}")
            page.wait_for_load_state("networkidle")
            look(f"{screen} by {theme}")
            if screen == "proof":
                sections = page.get_by_role("navigation", name="Proof").get_by_role("button")
                for at in range(sections.count()):
                    sections.nth(at).click()
                    page.wait_for_timeout(500)
                    look(f"proof, {sections.nth(at).inner_text()}, by {theme}")
        page.goto("/")
        expect(page.get_by_test_id("session").first).to_be_visible()
        look(f"start by {theme}")
        page.goto(f"{busy_session}/bench")
        page.get_by_role("button", name="day/night").click()
    assert found == {}
