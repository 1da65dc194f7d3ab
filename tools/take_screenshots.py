"""Takes the pictures of docs/screenshots from a running application with a fresh demo session.

./mivlo start --data /tmp/pictures & .venv/bin/python tools/take_screenshots.py http://127.0.0.1:8765
"""

import math
import sys
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

FOLDER = Path(__file__).parent.parent / "docs" / "screenshots"
FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-background-networking",
    "--autoplay-policy=no-user-gesture-required",
]
RING_HZ = 431.0


def spectrum_point(page: Page, hz: float) -> tuple[float, float]:
    """Return where a frequency is on the spectrum lane."""
    box = page.locator("[data-test=spectrum]").bounding_box()
    assert box is not None
    return box["x"] + 0.35 * box["width"], box["y"] + box["height"] * (1.0 - math.log2(hz / 20.0) / math.log2(1000.0))


def take(page: Page, name: str) -> None:
    """Save one picture."""
    page.screenshot(path=str(FOLDER / f"{name}.png"))


def tour(page: Page, address: str) -> None:
    """Walk through the main views."""
    page.goto(address)
    page.wait_for_selector("[data-test=session]")
    take(page, "start")
    page.locator("[data-test=session]", has_text="invented").click()
    page.get_by_role("link", name="Gather", exact=True).click()
    page.wait_for_timeout(9_000)
    take(page, "gather")
    page.locator("[data-test=look-in-cellar]").click()
    page.wait_for_selector("[data-test=cellar]", timeout=60_000)
    page.wait_for_selector("[data-test=cellar-sum]")
    page.locator("[data-test=cellar-sum]").scroll_into_view_if_needed()
    page.wait_for_timeout(500)
    take(page, "cellar")
    the_round(page)
    page.get_by_role("link", name="Bench", exact=True).click()
    page.get_by_role("button", name="Frame drum", exact=True).click()
    page.wait_for_timeout(4_000)
    page.locator("[data-test=find]").click()
    page.wait_for_selector("[data-test=suspect]", timeout=60_000)
    page.wait_for_timeout(1_000)
    take(page, "suspect")
    page.locator("[data-test=suspect].open .title").click()
    page.locator("[data-test=play]").click()
    page.wait_for_timeout(3_000)
    page.mouse.move(*spectrum_point(page, 900.0))
    page.mouse.down()
    page.mouse.move(*spectrum_point(page, RING_HZ), steps=15)
    page.wait_for_timeout(1_500)
    take(page, "probe")
    page.keyboard.press("p")
    page.mouse.up()
    page.locator("[data-test=pin]").get_by_role("button", name="cut").click()
    page.mouse.move(*spectrum_point(page, 55.0))
    page.keyboard.press("c")
    page.locator("[data-test=move].chosen").get_by_label("Kind").select_option("low-cut")
    page.mouse.move(*spectrum_point(page, 1_290.0))
    page.keyboard.press("p")
    page.locator("[data-test=move] .title").first.click()
    page.mouse.move(*spectrum_point(page, 300.0))
    page.wait_for_timeout(4_000)
    take(page, "bench")
    moves_at_work(page)
    page.get_by_role("button", name="Frame drum", exact=True).click()
    page.wait_for_timeout(2_500)
    page.get_by_role("button", name="day/night").click()
    page.wait_for_timeout(800)
    take(page, "bench-night")
    page.get_by_role("button", name="day/night").click()
    page.locator("[data-test=play]").click()
    together(page)
    page.get_by_role("link", name="Hand-over", exact=True).click()
    page.locator("[data-test=render]").click()
    page.wait_for_selector("[data-test=download]")
    take(page, "hand-over")
    the_proof(page)
    under_pressure(page)


def the_round(page: Page) -> None:
    """Show the list over the whole session with a chosen row, and the plan."""
    page.get_by_role("link", name="Round", exact=True).click()
    page.wait_for_function("() => window.mivlo?.round.allHeard.value", timeout=180_000)
    page.locator("[data-test=round-suspect]").nth(2).click()
    page.wait_for_timeout(3_000)
    take(page, "round")
    page.locator("[data-test=round-plan]").click()
    page.wait_for_timeout(2_500)
    take(page, "plan")
    page.locator("[data-test=play]").click()
    page.evaluate("() => window.mivlo.play.seek(0)")


def the_proof(page: Page) -> None:
    """Show two treatments beside one another, and both on one axis."""
    page.get_by_role("link", name="Proof", exact=True).click()
    page.locator("[data-test=part-blind]").click()
    page.locator("[data-test=make-proposed]").click()
    page.wait_for_selector("[data-test=differences]", timeout=60_000)
    page.evaluate("() => window.mivlo.play.play(0)")  # the song may have ended
    page.wait_for_selector("[data-test=beside-ready]")
    take(page, "proof")
    page.locator("[data-test=play]").click()
    page.locator("[data-test=part-sides]").click()
    page.wait_for_selector("[data-test=side-figures]", timeout=60_000)
    page.wait_for_selector("[data-test=masking]", timeout=60_000)
    page.mouse.move(820, 330)
    page.wait_for_timeout(10_000)  # until its pictures are there
    take(page, "sides")
    page.get_by_role("button", name="undo").click()
    page.wait_for_timeout(1_000)


def under_pressure(page: Page) -> None:
    """Show what comes back once everything is compressed and put in a room."""
    page.get_by_role("link", name="Bench", exact=True).click()
    page.get_by_role("button", name="Lead voice", exact=True).click()
    page.wait_for_timeout(2_000)
    page.keyboard.press("u")
    page.locator("[data-test=draft-stand-ins]").click()
    page.wait_for_function(
        "() => !/listening/.test(document.querySelector('[data-test=pressure-told]').innerText)", timeout=240_000
    )
    page.locator("[data-test=pressure-row]").first.click()
    page.locator("[data-test=play]").click()
    page.wait_for_timeout(8_000)
    take(page, "pressure")
    page.locator("[data-test=play]").click()


def moves_at_work(page: Page) -> None:
    """Show a move that acts at times, one that listens to another track, one that works by itself, and the mix."""
    chosen = page.locator("[data-test=move].chosen")
    page.get_by_role("button", name="Lead voice", exact=True).click()
    page.wait_for_timeout(2_000)
    page.mouse.move(*spectrum_point(page, 7_000.0))
    page.keyboard.press("c")
    chosen.get_by_label("Kind").select_option("dynamic-bell")
    chosen.get_by_role("button", name="sibilance").click()
    chosen.get_by_label("Threshold", exact=True).fill("-42")
    chosen.get_by_label("Threshold", exact=True).press("Enter")
    page.wait_for_function(
        "() => Math.min(0, ...(window.mivlo.play.gains.value?.moves ?? []).map((m) => m.gain_db)) < -3"
    )
    page.mouse.move(640, 770)
    page.wait_for_timeout(250)
    take(page, "dynamic")
    page.get_by_role("button", name="Guitar", exact=True).click()
    page.wait_for_timeout(1_000)
    page.locator("[data-test=places]").click()
    page.locator(".survey").get_by_role("button", name="all", exact=True).click()
    page.wait_for_selector("[data-test=drafted-cut]", timeout=90_000)
    page.locator("[data-test=drafted-cut] .title").first.click()
    page.mouse.move(*spectrum_point(page, 2_880.0))
    page.wait_for_timeout(1_500)
    take(page, "survey")
    page.get_by_role("button", name="Leave the survey").click()
    page.locator("[data-test=places]").click()
    page.mouse.move(*spectrum_point(page, 1_000.0))
    page.keyboard.press("c")
    chosen.get_by_label("Kind").select_option("dynamic-bell")
    chosen.get_by_role("button", name="give way to").click()
    chosen.get_by_label("Listens to").select_option(label="Lead voice")
    chosen.get_by_label("Threshold", exact=True).fill("-45")
    chosen.get_by_label("Threshold", exact=True).press("Enter")
    page.locator("[data-test=spectrum]").focus()
    page.mouse.move(*spectrum_point(page, 3_000.0))
    page.keyboard.press("c")
    chosen.get_by_label("Kind").select_option("plane")
    chosen.get_by_role("button", name="brittle guitar").click()
    page.wait_for_selector("[data-test=place]", timeout=60_000)
    page.mouse.move(640, 770)
    page.evaluate("() => window.mivlo.play.seek(480_000)")  # the song may be over by now
    page.evaluate("() => window.mivlo.play.playing.value || window.mivlo.play.play(480_000)")
    page.wait_for_timeout(9_000)
    page.wait_for_function(
        "() => Math.min(0, ...(window.mivlo.play.gains.value?.moves ?? []).map((m) => m.gain_db)) < -2"
    )
    take(page, "plane")
    page.locator("[data-test=spectrum]").focus()
    page.keyboard.press("a")
    page.get_by_role("button", name="Mix", exact=True).click()
    page.wait_for_function("() => window.mivlo.session.sound.value")
    page.wait_for_load_state("networkidle")
    page.wait_for_timeout(6_000)
    page.mouse.move(*spectrum_point(page, 50.0))
    page.keyboard.press("c")
    chosen.get_by_label("Kind").select_option("note-family")
    chosen.get_by_role("button", name="mains hum 50 Hz").click()
    page.mouse.move(640, 770)
    page.wait_for_load_state("networkidle")
    page.wait_for_timeout(8_000)
    page.locator("[data-test=spectrum]").focus()
    page.keyboard.press("a")


def together(page: Page) -> None:
    """Show who hides whom, a yield with its proof, and the mix before and after all moves."""
    page.get_by_role("link", name="Ensemble", exact=True).click()
    page.wait_for_function("() => window.mivlo?.ensemble.fresh.value", timeout=120_000)
    clash = page.locator("[data-test=clash][data-hidden='Lead voice'][data-by='Squeezebox']").first
    clash.locator("button").first.click()
    page.wait_for_selector("[data-test=draft]", timeout=60_000)
    page.wait_for_timeout(500)
    take(page, "ensemble")
    page.locator("[data-test=close-view]").click()
    page.locator("[data-test=accept]").click()
    page.wait_for_selector("[data-test=proof]", timeout=90_000)
    page.wait_for_function("() => window.mivlo.play.match.value", timeout=60_000)
    clash.scroll_into_view_if_needed()
    page.wait_for_timeout(500)
    take(page, "close-view")
    page.locator("[data-test=close-view]").click()
    page.locator("[data-test=tab-mix]").click()
    page.wait_for_function("() => window.mivlo.ensemble.comparison.value", timeout=90_000)
    page.wait_for_timeout(800)
    take(page, "before-after")
    page.locator("[data-test=tab-clashes]").click()


def main() -> None:
    """Take all pictures."""
    FOLDER.mkdir(parents=True, exist_ok=True)
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        tour(browser.new_page(viewport={"width": 1280, "height": 800}), sys.argv[1])
        browser.close()


if __name__ == "__main__":
    main()
