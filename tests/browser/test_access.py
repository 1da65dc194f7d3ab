"""Everybody can use it: what an automatic check of accessibility (axe-core) finds on every screen, by day and night;
hostile names wherever a name is shown."""

import pytest
from playwright.sync_api import Page, expect

from ..conftest import ROOT
from ..server.helpers import bell, edit, new_id, new_session, set_track, upload, wav
from .sessions import copy_of_demo

AXE = ROOT / "web/node_modules/axe-core/axe.min.js"
SCREENS = ("gather", "round", "bench", "ensemble", "proof", "hand-over")

OUTSIDE = """() => {
    const told = [], name = (one) => (one.getAttribute('aria-label') ?? one.textContent).trim().slice(0, 30)
    /** What can be seen of an element: less than all inside of what scrolls. */
    function seen(one) {
        const {left, right, top, bottom} = one.getBoundingClientRect()
        const box = {left, right, top, bottom}
        for (let around = one.parentElement; around; around = around.parentElement) {
            if (getComputedStyle(around).overflowY === 'visible') continue
            const limit = around.getBoundingClientRect()
            box.left = Math.max(box.left, limit.left), box.right = Math.min(box.right, limit.right)
            box.top = Math.max(box.top, limit.top), box.bottom = Math.min(box.bottom, limit.bottom)
        }
        return box
    }
    const isShown = ({left, right, top, bottom}) => right - left > 2 && bottom - top > 2
    const controls = [...document.querySelectorAll(
        'header.top > *, main button, main a, main input:not([type=range]), main select, footer > *')]
        .filter((one) => !one.closest('.el-select, .el-switch, .el-radio-button, .el-checkbox'))
    const boxes = controls.map((one) => [one, seen(one)]).filter(([, box]) => isShown(box))
    for (const [one] of boxes) {
        const box = one.getBoundingClientRect()
        if (box.right > innerWidth + 1 || box.left < -1) told.push(`${name(one)} leaves the window`)
    }
    for (const [at, [one, a]] of boxes.entries())
        for (const [other, b] of boxes.slice(at + 1))
            if (a.left < b.right - 2 && b.left < a.right - 2 && a.top < b.bottom - 2 && b.top < a.bottom - 2
                && !one.contains(other) && !other.contains(one))
                told.push(`${name(one)} overlaps ${name(other)}`)
    if (document.documentElement.scrollWidth > innerWidth + 1) told.push('the page is wider than the window')
    return told
}"""


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


HOSTILE = (
    '<img src=x onerror="window.hacked=1"><script>window.hacked=1</script>',
    "\u202egnorw yaw eht\u2066 drum\u200f",
    "W" * 200,
    "{{ constructor.constructor('window.hacked=1')() }} ' OR 1=1; --",
)


def test_hostile_names_are_words_wherever_they_are_shown(page: Page, http):
    state = new_session(http, HOSTILE[0][:120])
    for at in range(len(HOSTILE)):
        state = upload(http, state["id"], "plain.wav", wav(3.0, seed=at)).json()
    http.post(f"/api/sessions/{state['id']}/references", files={"file": (f"{HOSTILE[2]}.wav", wav(2.0))})
    hostile = [name[:60] for name in HOSTILE]
    section = {"id": new_id(), "name": hostile[0], "start_frame": 0, "end_frame": 48_000}
    remark = {"id": new_id(), "at_s": 1.0, "text": hostile[0], "author": hostile[1]}
    entry = {**bell(new_id()), "reason": hostile[0]}
    on = {"strip_id": state["tracks"][0]["id"]}
    answer = edit(
        http, state, *(set_track(state, at, name=name[:120]) for at, name in enumerate(HOSTILE)),
        {"do": "add-group", "group_id": new_id(), "name": hostile[1]}, {"do": "add-section", "section": section},
        {"do": "add-treatment", "letter": "B", "of": "A", "name": hostile[2]},
        {"do": "add-remark", **on, "remark": remark}, {"do": "add-move", **on, "entry": entry},
    )  # fmt: skip
    state = answer.json()
    assert answer.status_code == 200, answer.text
    assert state["tracks"][1]["name"] == "gnorw yaw eht drum"  # nothing in it turns the direction of what follows
    for screen in ("/", *(f"/session/{state['id']}/{one}" for one in SCREENS)):
        page.goto(screen)
        page.wait_for_load_state("networkidle")
        assert page.evaluate("() => [window.hacked, document.querySelectorAll('img').length]") == [None, 0], screen
        assert page.evaluate(OUTSIDE) == [], screen
        assert "\u202e" not in page.content(), screen
    for printed in ("settings-list", "report"):
        page.goto(f"/api/sessions/{state['id']}/{printed}")
        assert page.evaluate("() => [window.hacked, document.querySelectorAll('img, script').length]") == [None, 0]
