"""The round on the page: a row is heard in its loop, put off, and taken back."""

import numpy as np
from playwright.sync_api import Page, expect

from mivlo.core.engine.mix import Mix
from mivlo.core.engine.render import replay

from ..conftest import Running
from .sessions import copy_of_demo
from .test_captured_sound import FRAMES, RATE, captured, opener


def all_heard(page: Page) -> None:
    page.wait_for_function("() => window.mivlo?.round.allHeard.value", timeout=180_000)


def opened(page: Page, mivlo: Running) -> str:
    session_id = copy_of_demo(mivlo)
    page.goto(f"/session/{session_id}/round")
    all_heard(page)
    return session_id


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
