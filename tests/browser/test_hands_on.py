"""Single gestures of the bench and the other screens, with what they do to the sound that is asked for."""

import json
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from ..server.helpers import wav

LISTENING = "() => JSON.parse(JSON.stringify(window.mivlo.play.listening.value))"


def undo_all(bench, page: Page, count: int) -> None:
    for _ in range(count):
        page.get_by_role("button", name="undo").click()
        bench.saved()


def test_by_keyboard_alone(bench, page: Page):
    bench.open_demo("Upright bass")
    page.get_by_test_id("spectrum").focus()
    page.keyboard.press("ArrowUp")
    hz = page.get_by_test_id("readout").inner_text()
    page.keyboard.press("Shift+ArrowDown")
    assert page.get_by_test_id("readout").inner_text() != hz
    page.keyboard.down("l")
    expect(page.get_by_test_id("readout")).to_contain_text("lifted 15 dB")
    expect(page.get_by_test_id("play")).to_have_text("Stop")  # a probe needs sound
    assert page.evaluate(LISTENING)["probe"]["hz"] == pytest.approx(440, rel=0.02)
    page.keyboard.press("p")
    page.keyboard.up("l")
    assert page.evaluate(LISTENING)["probe"] is None
    page.get_by_test_id("pin").get_by_role("button", name="cut").press("Enter")
    title = page.get_by_test_id("move").get_by_role("button", expanded=True)
    expect(title).to_be_visible()  # the core says which cut answers a pin
    bench.saved()
    before = bench.chosen()["ledger"][0]["move"]["hz"]
    title.press("ArrowUp")
    bench.saved()
    assert bench.chosen()["ledger"][0]["move"]["hz"] == pytest.approx(before * 2 ** (10 / 1200))
    title.press("Delete")
    expect(page.get_by_test_id("move")).to_have_count(0)
    playing = page.get_by_test_id("play").inner_text()  # on a slow machine the song may have ended by now
    page.keyboard.press("Space")
    expect(page.get_by_test_id("play")).not_to_have_text(playing)
    undo_all(bench, page, 4)


def test_press_to_hear_release_to_return(bench, page: Page):
    bench.open_demo("Lead voice")
    page.mouse.move(*bench.point(2_000))
    page.keyboard.press("c")
    bench.saved()
    track_id = bench.chosen()["id"]
    page.keyboard.down("o")
    assert page.evaluate(LISTENING)["offcuts"] is True
    page.keyboard.up("o")
    assert page.evaluate(LISTENING)["offcuts"] is False
    page.get_by_role("button", name="hear slice").hover()
    page.mouse.down()
    assert page.evaluate(LISTENING)["slice_entry_id"] == bench.chosen()["ledger"][0]["id"]
    page.mouse.up()
    assert page.evaluate(LISTENING)["slice_entry_id"] is None
    page.keyboard.press("b")
    now = page.evaluate(LISTENING)
    assert (now["strip_id"], now["moves_heard"]) == (track_id, False)
    assert bench.chosen()["ledger_on"] is True  # comparing is listening, not an edit
    page.keyboard.press("b")
    page.get_by_role("button", name="dim").click()
    assert page.evaluate(LISTENING)["dim"] is True
    page.get_by_role("button", name="dim").click()
    page.get_by_test_id("all-off").click()
    bench.saved()
    assert bench.chosen()["ledger_on"] is False  # this one is an edit: hand-over goes by it
    undo_all(bench, page, 2)


def test_each_move_can_be_switched_copied_changed_in_kind_and_removed(bench, page: Page):
    bench.open_demo("Cello")
    page.mouse.dblclick(*bench.point(300))
    move = page.get_by_test_id("move")
    move.get_by_label("Kind").select_option("low-cut")
    move.get_by_label("Slope").select_option("48")
    bench.saved()
    assert bench.chosen()["ledger"][0]["move"] | {"hz": 0} == {
        "kind": "low-cut",
        "hz": 0,
        "slope_db_per_octave": 48,
        "q": 0.7071,
        "on": True,
        "stand_in": False,
        "channel": "both",
        "times_s": [],
    }
    move.get_by_label("Slope").select_option("6")
    expect(move.get_by_label("Q", exact=True)).to_have_count(0)
    move.get_by_role("switch").click()
    bench.saved()
    assert bench.chosen()["ledger"][0]["move"]["on"] is False
    move.get_by_role("button", name="duplicate").click()
    expect(move).to_have_count(2)
    bench.saved()
    one, two = bench.chosen()["ledger"]
    assert one["id"] != two["id"]
    assert one["move"] == two["move"]
    page.get_by_role("button", name="remove", exact=True).click()
    expect(move).to_have_count(1)
    undo_all(bench, page, 7)
    expect(move).to_have_count(0)


def test_wheel_scrolls_zooms_and_widens_the_probe(bench, page: Page):
    bench.open_demo("Fiddle")
    x, y = bench.point(431)
    page.mouse.move(x, y)
    shown = page.get_by_test_id("readout")
    expect(shown).to_contain_text("A4")
    page.keyboard.down("Control")
    for _ in range(8):
        page.mouse.wheel(0, -100)
    page.keyboard.up("Control")
    expect(shown).to_contain_text("A4")  # what is under the pointer stays there
    page.mouse.move(x, y - 60)
    assert float(shown.inner_text().split(" Hz")[0]) < 700  # 60 px are over an octave on the whole axis, less now
    page.mouse.move(x, y)
    page.mouse.down()
    page.wait_for_function("() => window.mivlo.play.probe.value")
    page.mouse.wheel(0, 300)
    page.wait_for_function("() => window.mivlo.play.probe.value.width_octaves > 0.28")
    page.mouse.up()
    page.get_by_role("button", name="show all").click()
    page.mouse.move(x, y + 40)
    page.mouse.move(x, y)
    expect(shown).to_contain_text("A4")


def test_a_file_is_dropped_and_another_put_in_its_place(page: Page, tmp_path: Path):
    page.goto("/")
    page.get_by_label("Name of the new session").fill("Drops")
    page.get_by_role("button", name="Make it").click()
    page.get_by_text("No tracks yet").wait_for()
    drop = """async (bytes) => {
        const files = new DataTransfer()
        files.items.add(new File([new Uint8Array(bytes)], 'dropped.wav'))
        const event = new DragEvent('drop', { dataTransfer: files, bubbles: true, cancelable: true })
        document.querySelector('.page').dispatchEvent(event)
    }"""
    page.evaluate(drop, list(wav(0.5)))
    expect(page.get_by_label("Name of dropped")).to_be_visible()
    with page.expect_file_chooser() as chooser:
        page.get_by_role("button", name="replace").click()
    (tmp_path / "better.wav").write_bytes(wav(1.5, seed=4))
    chooser.value.set_files(tmp_path / "better.wav")
    expect(page.get_by_text("0:01.5")).to_be_visible()
    expect(page.get_by_label("Name of dropped")).to_be_visible()  # the track stays what it is
    page.get_by_label("Name of the session").fill("Drops, renamed")
    page.get_by_label("Name of the session").press("Enter")
    page.get_by_role("button", name="remove").click()
    expect(page.get_by_text("No tracks yet")).to_be_visible()
    page.get_by_role("button", name="undo").click()
    expect(page.get_by_label("Name of dropped")).to_be_visible()
    page.reload()
    expect(page.get_by_label("Name of the session")).to_have_value("Drops, renamed")


def test_a_render_is_cancelled_and_the_settings_list_printed(bench, page: Page):
    bench.open_demo("Squeezebox")
    page.mouse.move(*bench.point(2_937))
    page.keyboard.press("c")
    bench.saved()
    page.get_by_role("link", name="Hand-over").click()
    page.get_by_role("button", name="all", exact=True).click()
    page.get_by_test_id("render").click()
    page.get_by_role("button", name="cancel").first.click()
    expect(page.get_by_test_id("handover").first).to_contain_text("cancelled; nothing was kept")
    with page.context.expect_page() as opened:
        page.get_by_role("link", name="All tracks, one page to print").click()
    expect(opened.value.get_by_role("cell", name="Squeezebox")).to_be_visible()
    assert "half" in opened.value.locator("p").first.inner_text()
    opened.value.close()
    page.get_by_role("link", name="Bench", exact=True).click()
    undo_all(bench, page, 1)


def test_the_night_theme_stays(page: Page):
    page.goto("/")
    page.get_by_test_id("session").first.click()
    page.get_by_role("button", name="day/night").click()
    page.reload()
    assert page.evaluate("() => document.documentElement.dataset.theme") == "night"
    style = "getComputedStyle(document.documentElement).getPropertyValue(`--${name}`).trim()"
    script = f"(names) => names.map((name) => {style})"
    colours = page.evaluate(script, ["paper", "ink", "ink-soft", "green", "ochre", "vermilion"])
    assert all(contrast(colours[0], colour) >= 4.5 for colour in colours[1:]), json.dumps(colours)
    page.get_by_role("button", name="day/night").click()


def contrast(one: str, other: str) -> float:
    """Return the contrast ratio of two colours (WCAG 2.1, relative luminance; from memory)."""

    def luminance(colour: str) -> float:
        parts = [int(colour[n : n + 2], 16) / 255 for n in (1, 3, 5)]
        linear = [part / 12.92 if part <= 0.04045 else ((part + 0.055) / 1.055) ** 2.4 for part in parts]
        return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]

    light, dark = sorted((luminance(one), luminance(other)), reverse=True)
    return (light + 0.05) / (dark + 0.05)


def test_a_treatment_file_dropped_on_a_track_becomes_its_moves_or_is_refused_by_the_field(bench, page: Page):
    bench.open_demo("Cello")

    def drop(text: str) -> None:
        page.evaluate(
            """(text) => {
                const transfer = new DataTransfer()
                transfer.items.add(new File([text], 'bright.json'))
                const tracks = [...document.querySelectorAll('[data-test=track]')]
                const track = tracks.find((one) => /Cello/.test(one.innerText))
                track.dispatchEvent(new DragEvent('drop', { dataTransfer: transfer, bubbles: true, cancelable: true }))
            }""",
            text,
        )

    bell = {"kind": "bell", "hz": 900, "gain_db": -6}
    drop(json.dumps({"mivlo_treatment": 1, "amount": 50, "moves": [bell, {"kind": "low-cut", "hz": 60}]}))
    expect(page.get_by_test_id("move")).to_have_count(2)
    bench.saved()
    ledger = bench.chosen()["ledger"]
    assert [(one["move"]["kind"], one["reason"]) for one in ledger] == [
        ("bell", "From bright.json"), ("low-cut", "From bright.json"),
    ]  # fmt: skip
    assert ledger[0]["move"]["gain_db"] == -3  # as it is at its amount
    for wrong, told in (
        ({"mivlo_treatment": 2, "moves": []}, "mivlo_treatment"),
        ({"mivlo_treatment": 1, "moves": [bell | {"gain_db": 400}]}, "gain_db"),
    ):
        drop(json.dumps(wrong))
        expect(page.get_by_role("alert").filter(has_text="bright.json")).to_contain_text(told)
    drop("not json")
    expect(page.get_by_role("alert").filter(has_text="bright.json")).to_contain_text("it is not JSON")
    assert len(bench.chosen()["ledger"]) == 2
    page.get_by_role("button", name="undo").click()
    expect(page.get_by_test_id("move")).to_have_count(0)
