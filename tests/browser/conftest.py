"""Debian's Chromium, headless, on the running application."""

import math
from collections.abc import Iterator

import pytest
from playwright.sync_api import Browser, Page, expect, sync_playwright

from ..conftest import Running
from .sessions import copy_of_demo

FLAGS = [
    "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync", "--autoplay-policy=no-user-gesture-required",
]  # fmt: skip


@pytest.fixture(scope="session")
def browser() -> Iterator[Browser]:
    expect.set_options(timeout=20_000)
    with sync_playwright() as playwright:
        playwright.selectors.set_test_id_attribute("data-test")
        chromium = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        yield chromium
        chromium.close()


@pytest.fixture
def page(browser: Browser, mivlo: Running) -> Iterator[Page]:
    """Return a fresh page; what the page itself did wrong fails the test."""
    context = browser.new_context(viewport={"width": 1280, "height": 800}, base_url=mivlo.url, accept_downloads=True)
    page = context.new_page()
    faults: list[str] = []
    page.on("pageerror", lambda error: faults.append(str(error)))
    page.set_default_timeout(20_000)
    yield page
    context.close()
    assert faults == []


class Bench:
    """The bench as somebody uses it: with mouse and keys, by what can be seen."""

    def __init__(self, page: Page, mivlo: Running) -> None:
        self.page = page
        self._mivlo = mivlo

    def open_demo(self, track: str) -> "Bench":
        """Open a copy of the demo that no other test knows."""
        self.page.goto(f"/session/{copy_of_demo(self._mivlo, first=track)}/bench")
        self.page.get_by_role("button", name=track, exact=True).click()
        expect(self.page.get_by_test_id("spectrum")).to_be_visible()
        return self

    def point(self, hz: float, across: float = 0.3) -> tuple[float, float]:
        """Return where a frequency is on the spectrum lane, the whole axis shown."""
        box = self.page.get_by_test_id("spectrum").bounding_box()
        assert box
        return box["x"] + across * box["width"], box["y"] + box["height"] * (1 - math.log2(hz / 20) / math.log2(1000))

    def play(self) -> None:
        self.page.get_by_test_id("play").click()
        expect(self.page.get_by_test_id("play")).to_have_text("Stop")
        self.page.wait_for_function("() => window.mivlo.play.positionFrame.value > 4800")

    def settled_box(self, selector: str) -> dict:
        """Return where something is once it stays there: a handle moves to its level when the spectrum has come."""
        # What is computed is told of by the news: until then the network is at rest, too.
        self.page.wait_for_function("() => window.mivlo.bench.spectrum.value")
        self.page.wait_for_load_state("networkidle")
        box = None
        while box != (box := self.page.locator(selector).bounding_box()) or box is None:
            self.page.wait_for_timeout(300)
        return dict(box)

    def saved(self) -> None:
        expect(self.page.get_by_text("all saved")).to_be_visible()

    def chosen(self) -> dict:
        return self.page.evaluate("() => JSON.parse(JSON.stringify(window.mivlo.session.chosen.value))")

    def figure(self, label: str, text: str) -> None:
        field = self.page.get_by_test_id("move").get_by_label(label, exact=True)
        field.fill(text)
        field.press("Enter")


@pytest.fixture
def bench(page: Page, mivlo: Running) -> Bench:
    return Bench(page, mivlo)
