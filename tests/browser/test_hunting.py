"""Hunting through the page: every planted fault of the demo found, named, heard, answered, and measured again."""

import io
import json
import re
from pathlib import Path

import numpy as np
import pytest
import soundfile
from playwright.sync_api import Page, expect
from scipy.signal import lfilter

from mivlo.core.engine.mix import Mix
from mivlo.core.engine.render import replay
from mivlo.core.filters.matched import plain_bell

from ..core.phrases import phrase
from ..server.helpers import new_session, upload
from .sessions import copy_of_demo
from .test_captured_sound import FRAMES, RATE, captured, opener

TRUTH = json.loads((Path(__file__).parents[2] / "demo" / "truth.json").read_text())["faults"]
CLUTTER_HZ = (823.0, 2_710.0)
HARSH = ((1_900.0, 14.0), (3_100.0, 12.0))  # hz, q
PLANTED = sorted({(fault["track"], fault["kind"]) for fault in TRUTH if fault["track"] != "all"})


def hunt(page: Page) -> None:
    page.get_by_test_id("find").click()
    expect(page.get_by_test_id("found")).to_contain_text("suspect", timeout=60_000)


def take_all_back(bench, page: Page) -> None:
    """Undo until the track stands as it was imported, and no further."""
    while any(bench.chosen()[name] for name in ("ledger", "keepers", "dismissed")):
        page.get_by_role("button", name="undo").click()
        bench.saved()


@pytest.mark.parametrize(("track", "kind"), PLANTED)
def test_a_planted_fault_is_found_named_answered_and_measured_again(bench, page: Page, track: str, kind: str):
    bench.open_demo(track)
    hunt(page)
    truth = next(fault for fault in TRUTH if (fault["track"], fault["kind"]) == (track, kind))
    told = page.evaluate("() => window.mivlo.hunt.suspects.value.map((one) => ({ kind: one.kind, hz: one.hz }))")
    reach = 400 if "q" in truth else 60  # cents
    off_cents = [abs(1_200 * np.log2(one["hz"] / truth.get("hz", one["hz"]))) for one in told]
    hits = [n for n, one in enumerate(told) if one["kind"] == kind and off_cents[n] < reach]
    assert hits, told
    note = page.get_by_test_id("suspect").nth(hits[0])
    if "open" not in (note.get_attribute("class") or ""):
        note.locator("button.title").click()
    expect(note.get_by_test_id("evidence")).not_to_be_empty()
    # Held, it is heard alone; let go, the track is back.
    tied = page.evaluate(
        """(hz) => {
          const from = Number(document.querySelector('.ties .accused').getAttribute('d').slice(1).trim().split(' ')[1])
          const lane = document.querySelector('[data-test=spectrum]').getBoundingClientRect()
          const y = document.querySelector('[data-test=margin]').getBoundingClientRect().top + from
          return 20 * 1000 ** ((lane.bottom - y) / lane.height) / hz
        }""",
        told[hits[0]]["hz"],
    )
    assert told[hits[0]]["hz"] > 6_000 or abs(1_200 * np.log2(tied)) < 30  # a pixel is 18 cents
    button = note.get_by_test_id("hear-only").bounding_box()
    assert button
    page.mouse.move(button["x"] + 5, button["y"] + 5)
    page.mouse.down()
    page.wait_for_function("() => window.mivlo.play.probe.value?.kind === 'only' && window.mivlo.play.playing.value")
    page.mouse.up()
    page.wait_for_function("() => window.mivlo.play.probe.value === null")
    page.keyboard.down("2")
    page.wait_for_function("() => window.mivlo.play.probe.value?.kind === 'dip'")
    page.keyboard.up("2")
    page.get_by_test_id("play").click()
    note.locator("button.first").click()
    bench.saved()
    entry = bench.chosen()["ledger"][-1]
    assert entry["evidence"]["kind"] == kind
    assert kind in entry["reason"]
    # No proposal goes beyond 8 dB by itself: what stands out further takes it twice.
    cure = page.get_by_test_id("cure").first
    expect(cure).to_contain_text("dB out", timeout=60_000)
    if f"{kind} cured" not in cure.inner_text():
        assert f"{kind} better" in cure.inner_text()
        page.get_by_test_id("move").locator("footer").get_by_role("button", name="duplicate").click()
        bench.saved()
    expect(cure).to_contain_text(f"{kind} cured", timeout=60_000)
    expect(page.get_by_test_id("over-cut")).to_have_count(0)
    take_all_back(bench, page)


def test_what_a_suspect_sounds_like_alone_is_the_render(bench, page: Page, mivlo):
    bench.open_demo("Frame drum")
    hunt(page)
    probe = page.evaluate("() => { window.mivlo.hunt.audition('only'); return window.mivlo.play.probe.value }")
    page.evaluate("() => window.mivlo.play.stop()")
    page.wait_for_timeout(500)
    played, sound = captured(page, 240_000, [])
    mix, start = Mix.model_validate(sound["startMix"]), sound["startFrame"]
    assert mix.probe is not None
    assert mix.probe.hz == probe["hz"]
    changes = [(change["frame"], Mix.model_validate(change["mix"])) for change in sound["changes"]]
    again = replay(mix, changes, opener(mivlo), start_frame=start, n_frames=FRAMES, sample_rate_hz=RATE)
    assert np.array_equal(played, again.astype(np.float32))
    page.evaluate("() => window.mivlo.hunt.audition(null)")


def test_the_keyboard_goes_through_the_list_and_says_wanted_and_no_fault(bench, page: Page):
    bench.open_demo("Squeezebox")
    hunt(page)
    count = page.get_by_test_id("suspect").count()
    assert count >= 2
    first = page.evaluate("() => window.mivlo.hunt.suspectId.value")
    page.keyboard.press("n")
    assert page.evaluate("() => window.mivlo.hunt.suspectId.value") != first
    page.keyboard.press("Shift+N")
    assert page.evaluate("() => window.mivlo.hunt.suspectId.value") == first
    page.keyboard.down("4")  # made plain, then gone
    page.wait_for_function("() => window.mivlo.play.probe.value?.kind === 'lift'")
    page.wait_for_function("() => window.mivlo.play.probe.value?.kind === 'dip'")
    page.keyboard.up("4")
    page.wait_for_function("() => window.mivlo.play.probe.value === null")
    page.keyboard.press("k")
    bench.saved()
    expect(page.get_by_test_id("keeper")).to_have_count(1)
    page.keyboard.press("d")
    bench.saved()
    assert len(bench.chosen()["dismissed"]) == 1
    expect(page.get_by_test_id("suspect")).to_have_count(count - 2)
    page.get_by_role("button", name="Cello", exact=True).click()
    expect(page.get_by_test_id("suspect")).to_have_count(0)
    page.get_by_role("button", name="Squeezebox", exact=True).click()
    expect(page.get_by_test_id("suspect")).to_have_count(count - 2)  # whoever comes back finds the list again
    hunt(page)
    expect(page.get_by_test_id("suspect")).to_have_count(count - 2)  # told once, not told again
    take_all_back(bench, page)


def test_the_cellar_is_heard_cleared_for_all_and_brought_back(bench, page: Page):
    bench.open_demo("Frame drum")
    page.get_by_role("link", name="Gather", exact=True).click()
    page.get_by_test_id("look-in-cellar").click()
    table = page.get_by_test_id("cellar")
    expect(table.locator("tbody tr")).to_have_count(9, timeout=60_000)
    expect(table).to_contain_text("D4")  # the fiddle's and the voice's lowest note

    def told_db() -> float:
        return float(
            re.search(r"([\d.]+)\sdB below the lowest notes", page.get_by_test_id("cellar-sum").inner_text()).group(1)
        )

    all_of_it_db = told_db()
    table.get_by_label("Leave Squeezebox").check()
    page.wait_for_function("() => document.querySelector('[data-test=clear-cellar]').textContent.includes('8 tracks')")
    expect(page.get_by_test_id("cellar-sum")).not_to_contain_text(f"{all_of_it_db:.1f}\u00a0dB")
    assert 3 < told_db() < all_of_it_db  # what is left in one track stays in the sum
    table.get_by_role("button", name="Safe").click()
    hear = page.get_by_test_id("hear-cellar")
    hear.scroll_into_view_if_needed()
    box = hear.bounding_box()
    assert box
    page.mouse.move(box["x"] + 5, box["y"] + 5)
    page.mouse.down()
    page.wait_for_function("() => window.mivlo.play.listening.value.draft_id !== null")
    _, sound = captured(page, 48_000, [])
    page.mouse.up()
    heard = [sound["startMix"], *(change["mix"] for change in sound["changes"])][-1]
    assert [[entry["move"]["kind"] for entry in track["ledger"]] for track in heard["tracks"]] == [["low-cut"]] * 9
    assert page.evaluate("() => window.mivlo.play.listening.value.draft_id") is None
    assert page.evaluate("() => window.mivlo.session.saved.value.tracks.every((track) => track.ledger.length === 0)")
    page.get_by_test_id("clear-cellar").click()
    bench.saved()
    expect(page.get_by_test_id("cellar-cleared")).to_contain_text(f"{all_of_it_db:.1f}\u00a0dB")
    ledgers = "window.mivlo.session.state.value.tracks.map((track) => track.ledger.map((entry) => entry.move.kind))"
    assert page.evaluate(f"() => {ledgers}") == [["low-cut"]] * 9
    page.get_by_role("button", name="undo").click()  # all tracks in one step
    bench.saved()
    assert page.evaluate("() => window.mivlo.session.state.value.tracks.every((track) => track.ledger.length === 0)")
    expect(page.get_by_test_id("cellar-cleared")).to_have_count(0)


def test_a_survey_is_drafted_heard_and_taken(bench, page: Page, mivlo, http):
    # A fiddle with two wavering lines on no overtone of what it plays.
    fiddle, _ = phrase(40, (60, 64, 67, 62, 65, 69, 71, 67, 64, 60, 62, 66))
    t = np.arange(fiddle.shape[1]) / RATE
    stray = sum(np.sin(2 * np.pi * hz * t) for hz in CLUTTER_HZ) * (0.6 + 0.4 * np.sin(2 * np.pi * 0.9 * t))
    sound = io.BytesIO()
    soundfile.write(
        sound, (fiddle + 0.25 * np.sqrt(np.mean(fiddle**2)) * stray).T, RATE, subtype="PCM_24", format="WAV"
    )
    session = new_session(http, "Cluttered")
    assert upload(http, session["id"], "cluttered.wav", sound.getvalue(), role="strings").status_code == 201
    page.goto("/")
    page.get_by_test_id("session").filter(has_text="Cluttered").click()
    page.get_by_role("link", name="Bench", exact=True).click()
    page.get_by_role("button", name="cluttered", exact=True).click()
    page.get_by_test_id("survey").click()
    expect(page.get_by_test_id("drafted")).to_contain_text("shallow cuts", timeout=60_000)
    page.locator(".survey").get_by_role("button", name="offcuts").hover()
    page.mouse.down()
    page.wait_for_function("() => window.mivlo.play.playing.value")
    played, told = captured(page, 48_000, [])
    # An edit while the draft is held is that edit, and takes nothing of the draft along.
    page.evaluate("() => window.mivlo.edits.addBell(2_000)")
    bench.saved()
    assert len(bench.chosen()["ledger"]) == 1
    page.mouse.up()
    page.wait_for_function("() => window.mivlo.play.listening.value.draft_id === null")
    assert len(bench.chosen()["ledger"]) == 1
    page.get_by_role("button", name="undo").click()
    bench.saved()
    mix, start = Mix.model_validate(told["startMix"]), told["startFrame"]
    changes = [(change["frame"], Mix.model_validate(change["mix"])) for change in told["changes"]]
    again = replay(mix, changes, opener(mivlo), start_frame=start, n_frames=FRAMES, sample_rate_hz=RATE)
    assert np.array_equal(played, again.astype(np.float32))
    spectrum = np.abs(np.fft.rfft(played.mean(axis=0) * np.hanning(FRAMES)))
    loudest_hz = np.argmax(spectrum) * RATE / FRAMES
    assert min(abs(1_200 * np.log2(loudest_hz / hz)) for hz in CLUTTER_HZ) < 20  # what is taken away is the clutter
    # One of the drafts is unfolded, heard as the only one, and switched off: it is not taken.
    drafts = page.get_by_test_id("drafted-cut")
    all_of_them = drafts.count()
    others = page.evaluate("() => window.mivlo.survey.drafts.value.map((one) => one.cut.move.hz)")
    off_hz = min(others, key=lambda hz: -min(abs(np.log2(hz / stray_hz)) for stray_hz in CLUTTER_HZ))
    weakest = drafts.nth(others.index(off_hz))
    weakest.locator(".title").click()
    weakest.get_by_role("button", name="only it").hover()
    page.mouse.down()
    page.wait_for_function("() => window.mivlo.play.listening.value.draft_id !== null")
    _, told = captured(page, 24_000, [])
    page.mouse.up()
    heard = [told["startMix"], *(change["mix"] for change in told["changes"])][-1]
    assert [entry["move"]["hz"] for entry in heard["tracks"][0]["ledger"]] == [off_hz]
    weakest.get_by_role("switch").click()
    page.get_by_test_id("accept-survey").click()
    bench.saved()
    assert len(bench.chosen()["ledger"]) == all_of_them - 1
    taken = bench.chosen()["ledger"]
    assert all(entry["reason"].startswith("Survey") for entry in taken)
    assert all(min(abs(1_200 * np.log2(entry["move"]["hz"] / hz)) for entry in taken) < 40 for hz in CLUTTER_HZ)
    page.get_by_role("button", name="undo").click()  # all of them are one step
    bench.saved()
    assert bench.chosen()["ledger"] == []


def test_a_harsh_voice_is_learnt_shaved_compared_and_one_of_its_places_kept(bench, page: Page, mivlo, http):
    # An invented take: a sung vowel, sharpened at two places.
    voice = phrase(53, (60, 64, 67, 62, 65, 69, 71, 67, 64, 60, 62, 66, 70, 68, 61, 63))[0]
    for hz, q in HARSH:
        s = plain_bell(hz, 13.0, q, sample_rate_hz=RATE)
        voice = lfilter([s.b0, s.b1, s.b2], [1.0, s.a1, s.a2], voice, axis=1)
    sound = io.BytesIO()
    soundfile.write(sound, 0.5 * (voice / np.abs(voice).max()).T, RATE, subtype="PCM_24", format="WAV")
    session = new_session(http, "Sharp")
    assert upload(http, session["id"], "sharp.wav", sound.getvalue(), role="lead voice").status_code == 201
    page.goto("/")
    page.get_by_test_id("session").filter(has_text="Sharp").click()
    page.get_by_role("link", name="Bench", exact=True).click()
    page.get_by_role("button", name="sharp", exact=True).click()
    page.evaluate("() => window.mivlo.edits.addBell(2_000)")
    bench.saved()
    note = page.get_by_test_id("move")
    note.get_by_label("Kind").select_option("plane")
    bench.saved()
    note.get_by_role("button", name="harsh voice").click()  # which learns at once
    expect(note.get_by_test_id("place").first).to_be_visible(timeout=60_000)
    bench.saved()

    def plane() -> dict:
        return bench.chosen()["ledger"][0]["move"]

    learnt = plane()["places"]
    tops_hz = [hz for hz, db in learnt if db > 2.0]
    assert all(min(abs(1_200 * np.log2(hz / wanted)) for hz in tops_hz) < 80 for wanted, _ in HARSH)

    def heard_at(hz: float) -> tuple[float, float]:
        """Return the level near a frequency of what is heard, and that of all of it, in dB."""
        played, told = captured(page, FRAMES, [])
        mix, start = Mix.model_validate(told["startMix"]), told["startFrame"]
        changes = [(change["frame"], Mix.model_validate(change["mix"])) for change in told["changes"]]
        n = played.shape[1]
        again = replay(mix, changes, opener(mivlo), start_frame=start, n_frames=n, sample_rate_hz=RATE)
        assert np.array_equal(played, again.astype(np.float32))
        power = np.mean(np.abs(np.fft.rfft(played * np.hanning(n), axis=1)) ** 2, axis=0)
        near = np.abs(np.log2(np.maximum(np.fft.rfftfreq(n, 1 / RATE), 1.0) / hz)) < 1 / 12
        return 10 * float(np.log10(power[near].sum() + 1e-9)), 10 * float(np.log10(power.sum() + 1e-9))

    page.get_by_text("level-matched").click()  # off: what is compared is the cut itself
    with_it, _ = heard_at(HARSH[0][0])
    page.get_by_test_id("before").click()
    without, _ = heard_at(HARSH[0][0])
    assert without - with_it > 2.0
    page.get_by_test_id("after").click()
    page.get_by_role("button", name="offcuts", exact=True).hover()
    page.mouse.down()
    page.wait_for_function("() => window.mivlo.play.listening.value.offcuts")
    taken, all_taken = heard_at(HARSH[0][0])
    page.mouse.up()
    assert taken > all_taken - 12.0  # what is taken away lies there for a good part

    n_places = note.get_by_test_id("place").count()
    note.get_by_test_id("place").first.get_by_role("button", name="Keep").click()
    bench.saved()
    assert len(bench.chosen()["keepers"]) == 1
    assert note.get_by_test_id("place").count() == n_places - 1
    page.get_by_role("button", name="undo").click()
    bench.saved()
    assert bench.chosen()["keepers"] == []
    assert plane()["places"] == learnt


def test_the_guided_cure_by_keyboard_by_roles_and_names_only(page: Page, mivlo):
    """What somebody does who sees nothing but names, and follows the words of the guide."""
    page.goto("/")
    expect(page.get_by_role("link", name="cure a ring in three steps")).to_have_attribute(
        "href", re.compile(r"\?guide$")
    )
    page.goto(f"/session/{copy_of_demo(mivlo)}/bench?guide")  # the same, of a session that no other test knows
    guide = page.get_by_role("contentinfo").get_by_role("status")

    def press(role: str, name: str | re.Pattern[str], key: str = "Enter", within=page, held_ms: int = 0) -> None:
        target = within.get_by_role(role, name=name, exact=isinstance(name, str))
        target.focus()
        page.keyboard.down(key)
        page.wait_for_timeout(held_ms)
        page.keyboard.up(key)

    expect(guide).to_contain_text("1 of 3")
    press("button", "Play")
    expect(page.get_by_role("button", name="Stop", exact=True)).to_be_visible()
    press("button", "find suspects")
    expect(guide).to_contain_text("2 of 3", timeout=60_000)
    ring = page.get_by_role("article").filter(has=page.get_by_role("button", name="cut", exact=True))
    for name in ("alone", "without"):
        press("button", name, key="Space", within=ring, held_ms=400)
    expect(guide).to_contain_text("3 of 3")
    press("button", "cut", within=ring)
    expect(guide).to_contain_text("some of it is left", timeout=60_000)
    press("button", re.compile("dB deeper"))
    expect(guide).to_contain_text("Cured, measured on the treated sound", timeout=60_000)
    compare = page.get_by_role("group", name="Before or after")
    press("button", "before", within=compare)
    press("button", "after", within=compare)
    expect(guide).to_contain_text("That is a cure")
    press("button", "close", within=page.get_by_role("contentinfo"))
    expect(guide).not_to_contain_text("That is a cure")
    # A hint comes once, with the first control that has one.
    press("slider", "amount", key="ArrowUp")
    expect(guide).to_contain_text("All moves nearer to nothing")
    page.reload()
    press("slider", "amount", key="ArrowDown")
    expect(guide).to_have_text("")
    press("button", "keys")
    expect(page.get_by_role("dialog", name="Keys")).to_contain_text("hold: the probe at the pointer")
