"""The page at work: tasks of its main thread that take longer than 50 ms while it plays, pans and zooms.

    .venv/bin/python bench/page.py [--seconds 20] [--address http://127.0.0.1:8765]

Needs the application running with its demo, and Debian's Chromium. What takes longer makes the page stutter under the
hand (the browser's own Long Tasks interface tells of it).
"""

import argparse
import time

from playwright.sync_api import Page, sync_playwright

FLAGS = ["--no-sandbox", "--disable-gpu", "--autoplay-policy=no-user-gesture-required"]
WATCH = """() => {
  window.longTasks = []
  new PerformanceObserver((list) => window.longTasks.push(...list.getEntries().map((one) => one.duration)))
    .observe({ type: 'longtask' })
}"""


def settled(page: Page) -> None:
    """Wait until all that is shown has come."""
    page.wait_for_function("() => window.mivlo?.bench.spectrum.value && window.mivlo.bench.waveform.value")
    page.wait_for_load_state("networkidle")
    page.wait_for_timeout(2_000)


def pan_and_zoom(page: Page, seconds: float) -> None:
    """Turn the wheel over the spectrogram in every way, and sweep over the spectrum."""
    lanes = [page.locator(f"[data-test={name}]").bounding_box() for name in ("spectrogram", "spectrum")]
    (x, y), (right, _) = ((box["x"] + box["width"] / 2, box["y"] + box["height"] / 2) for box in lanes if box)
    until, step = time.monotonic() + seconds, 0
    while time.monotonic() < until:
        page.mouse.move(x, y + 80 * (step % 3 - 1))
        key = ("Control", "Shift", "")[step % 3]
        if key:
            page.keyboard.down(key)
        page.mouse.wheel(0, (-240, 240)[step // 3 % 2])
        if key:
            page.keyboard.up(key)
        page.mouse.move(right, y + 60 * (step % 5 - 2))
        page.wait_for_timeout(60)
        step += 1


def main() -> None:
    """Play, measure, print."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--seconds", type=float, default=20.0)
    parser.add_argument("--address", default="http://127.0.0.1:8765")
    arguments = parser.parse_args()
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto(arguments.address)
        page.locator("[data-test=session]").first.click()
        settled(page)
        for what in ("standing", "playing"):
            if what == "playing":
                page.locator("[data-test=play]").click()
                page.wait_for_timeout(1_500)
            page.evaluate(WATCH)
            pan_and_zoom(page, arguments.seconds)
            tasks = sorted(page.evaluate("() => window.longTasks"))
            worst = f", the longest {tasks[-1]:.0f} ms" if tasks else ""
            print(f"{what}, panning and zooming for {arguments.seconds:g} s: {len(tasks)} tasks over 50 ms{worst}")
        browser.close()


if __name__ == "__main__":
    main()
