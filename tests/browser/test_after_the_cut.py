"""What comes after the cut, on the page: a ring that the pressure test brings back and a cut that holds it down, the
amount, and what is given back to a voice made thin; heard as it is rendered."""

import io
from pathlib import Path

import numpy as np
import soundfile
from playwright.sync_api import Page, expect

from mivlo.core.engine.mix import Mix
from mivlo.core.engine.render import replay

from ..core.test_pressure import struck
from .test_captured_sound import FRAMES, RATE, captured, opener

CUT = {"kind": "bell", "hz": 431.0, "gain_db": -14.0, "q": 12.0}
EVIDENCE = {"kind": "ring", "hz": 431.0, "q": 20.0, "excess_db": 20.0, "start_s": 0.0, "end_s": 8.0, "times": []}
# As loud as a compressor gets that makes all of a drum as loud as its strokes.
LATER = {"kind": "compressor", "threshold_db": -44.0, "ratio": 8.0, "attack_ms": 2.0, "release_ms": 40.0,
         "makeup_db": 12.0, "stand_in": True}  # fmt: skip
FILL = """async ([cut, evidence, later]) => {
    const { session } = window.mivlo
    const [drum] = session.state.value.tracks
    const add = (id, move, evidence) =>
        ({ do: 'add-move', strip_id: drum.id, entry: { id, move, reason: '', evidence } })
    await session.edit('Fill', [add('cut', cut, evidence), add('later', later, null)])
}"""


def drum(page: Page, tmp_path: Path) -> None:
    """Open a session of one drum whose ring is cut, and that somebody will compress."""
    page.goto("/")
    page.get_by_label("Name of the new session").fill("Pressed")
    page.get_by_role("button", name="Make it").click()
    data = io.BytesIO()
    soundfile.write(data, struck().T, RATE, format="WAV", subtype="PCM_24")
    (tmp_path / "snare.wav").write_bytes(data.getvalue())
    page.get_by_test_id("files").set_input_files([tmp_path / "snare.wav"])
    expect(page.get_by_label("Name of snare")).to_be_visible()
    page.evaluate(FILL, [CUT, EVIDENCE, LATER])
    page.get_by_role("link", name="Bench", exact=True).click()
    page.wait_for_function("() => window.mivlo.session.chosen.value?.ledger.length === 2")


def rendered(sound: dict, mivlo) -> np.ndarray:
    """Return what the log of a capture says was to be heard: a level match may have been measured in the middle."""
    changes = [(change["frame"], Mix.model_validate(change["mix"])) for change in sound["changes"]]
    mix, start = Mix.model_validate(sound["startMix"]), sound["startFrame"]
    return replay(mix, changes, opener(mivlo), start_frame=start, n_frames=FRAMES, sample_rate_hz=RATE).astype(
        np.float32
    )


def test_a_drums_ring_comes_back_under_pressure_is_cut_further_and_stays_cured(bench, page: Page, mivlo, tmp_path):
    drum(page, tmp_path)
    # Without it, the stand-in is neither heard nor rendered.
    page.wait_for_function("() => window.mivlo.play.match.value", timeout=60_000)
    resting, sound = captured(page, 0, [])
    assert np.array_equal(resting, rendered(sound, mivlo))
    page.get_by_test_id("pressure").click()
    row = page.get_by_test_id("pressure-row")
    expect(row).to_contain_text("comes back by", timeout=60_000)
    expect(page.get_by_test_id("pressure-told")).to_have_text("one comes back")
    page.wait_for_function("() => window.mivlo.play.match.value", timeout=60_000)
    pressed, sound = captured(page, 0, [])
    assert np.array_equal(pressed, rendered(sound, mivlo))
    tail = slice(RATE // 4, RATE // 2 - 2_000)
    # However loud both are: what rings on is louder beside its stroke.
    ring_pressed, ring_resting = (np.std(x[0, tail]) / np.std(x[0, : RATE // 8]) for x in (pressed, resting))
    assert ring_pressed > 1.5 * ring_resting
    # Held, it is heard without the stand-ins; released, with them again.
    hold = page.get_by_role("button", name="with", exact=True)
    hold.dispatch_event("pointerdown", {"button": 0, "pointerId": 1})
    page.wait_for_function("() => window.mivlo.play.listening.value.pressure === false")
    hold.dispatch_event("pointerup", {"pointerId": 1})
    page.wait_for_function("() => window.mivlo.play.listening.value.pressure === true")
    page.get_by_test_id("play").click()
    page.get_by_test_id("hold-down").click()
    expect(page.get_by_test_id("pressure-told")).to_have_text("it stays cured", timeout=60_000)
    assert bench.chosen()["ledger"][0]["move"]["gain_db"] < -20.0
    row.click()
    expect(page.get_by_test_id("under-pressure")).to_contain_text("stays cured")
    # Switched while it plays, it is the replay of its log.
    played, sound = captured(page, 0, [{"alone": False}])
    assert np.array_equal(played, rendered(sound, mivlo))


def test_stand_ins_are_drafted_by_role_heard_and_undone_as_one_step(bench, page: Page):
    bench.open_demo("Lead voice")
    page.keyboard.press("u")
    page.get_by_test_id("draft-stand-ins").click()
    bench.saved()
    kinds = [entry["move"]["kind"] for entry in bench.chosen()["ledger"]]
    assert kinds == ["compressor", "compressor"]
    rooms = page.evaluate("() => window.mivlo.session.state.value.groups.filter((group) => group.stand_in).length")
    assert rooms == 1
    bench.play()
    page.wait_for_function("() => Math.min(...(window.mivlo.play.gains.value?.moves ?? []).map((m) => m.gain_db)) < -1")
    page.get_by_test_id("play").click()
    page.get_by_role("button", name="undo").click()
    bench.saved()
    assert bench.chosen()["ledger"] == []
    assert page.evaluate("() => window.mivlo.session.state.value.groups.length") == 0


def test_a_voice_made_thin_is_given_back_to_and_the_amount_backs_off(bench, page: Page, mivlo):
    bench.open_demo("Lead voice")
    page.evaluate(
        """async () => {
        const { session } = window.mivlo
        const strip_id = session.chosen.value.id
        const add = (id, move) => ({ do: 'add-move', strip_id, entry: { id, move, reason: '' } })
        await session.edit('Thin', [add('low', { kind: 'low-cut', hz: 400, slope_db_per_octave: 24 }),
          add('high', { kind: 'high-shelf', hz: 4500, gain_db: -8 })])
    }"""
    )
    page.get_by_test_id("give-back").click()
    expect(page.get_by_test_id("given-back")).to_contain_text("gone, now", timeout=90_000)
    bench.saved()
    ledger = bench.chosen()["ledger"]
    given = [entry["move"]["kind"] for entry in ledger if entry["reason"]]
    assert given
    assert set(given) <= {"warmth", "air"}
    assert [entry["move"]["kind"] for entry in ledger][
        : len(given)
    ] == given  # at the head: they hear what is cut later
    page.keyboard.press(",")
    bench.saved()
    expect(page.get_by_label("Amount of all moves")).to_have_value("95 %")
    page.wait_for_function("() => window.mivlo.play.match.value", timeout=60_000)
    played, sound = captured(page, 480_000, [])
    assert sound["startMix"]["tracks"][0]["amount"] == 95.0
    assert np.array_equal(played, rendered(sound, mivlo))
    page.get_by_role("button", name="undo").click()
    bench.saved()
    expect(page.get_by_label("Amount of all moves")).to_have_value("100 %")


def test_what_somebody_really_did_is_brought_in_aligned_and_heard_under_pressure(bench, page: Page, mivlo, tmp_path):
    drum(page, tmp_path)
    back = np.pad(0.5 * struck(), ((0, 0), (500, 0)))[:, : 8 * RATE]
    soundfile.write(tmp_path / "back.wav", back.T, RATE, subtype="PCM_24")
    page.get_by_role("link", name="Gather").click()
    page.get_by_test_id("files").set_input_files([tmp_path / "back.wav"])
    expect(page.get_by_label("Name of back")).to_be_visible()
    page.get_by_role("link", name="Bench", exact=True).click()
    page.keyboard.press("u")
    page.get_by_test_id("came-back").locator("summary").click()
    page.get_by_test_id("back-file").select_option(label="back")
    page.get_by_test_id("back-of").select_option(label="snare")
    page.get_by_test_id("use-back").click()
    expect(page.get_by_test_id("came-back")).to_contain_text("snare as it came back: 6.0 dB softer, 10.4 ms late")
    expect(page.get_by_test_id("pressure-row").first).to_contain_text("ring at 431 Hz", timeout=60_000)
    page.evaluate("() => { window.mivlo.play.matched.value = false }")
    heard, sound = captured(page, 0, [])
    assert np.array_equal(heard, rendered(sound, mivlo))
    assert np.allclose(heard[0], 0.5 * struck()[0, : heard.shape[1]], atol=1e-4)
