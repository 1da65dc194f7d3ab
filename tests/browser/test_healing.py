"""A page whose database is killed under it: it plays on, says what waits, and nothing is lost."""

import os
import signal

from playwright.sync_api import Page, expect


def test_while_the_database_is_away_the_page_plays_on_and_its_edits_go_in_afterwards(bench, page: Page, mivlo):
    bench.open_demo("Squeezebox")
    bench.play()
    page.wait_for_function("() => window.mivlo.play.match.value")
    postmaster = mivlo.postmaster()
    os.kill(postmaster, signal.SIGKILL)  # until it is started again, nobody answers
    page.mouse.move(*bench.point(2_900))
    page.keyboard.press("c")
    page.get_by_title("Solo Squeezebox").click()
    expect(page.get_by_test_id("edits-wait")).to_contain_text("edit")
    played = page.evaluate("() => window.mivlo.play.positionFrame.value")
    page.wait_for_function(f"() => window.mivlo.play.positionFrame.value > {played} + 24000")
    assert page.evaluate("() => window.mivlo.play.playing.value")
    bench.saved()
    expect(page.get_by_test_id("edits-wait")).to_have_count(0)
    assert mivlo.postmaster() != postmaster
    chosen = bench.chosen()
    assert (len(chosen["ledger"]), chosen["solo"]) == (1, True)
    for _ in range(2):
        page.get_by_role("button", name="undo").click()
        bench.saved()
    assert (bench.chosen()["ledger"], bench.chosen()["solo"]) == ([], False)
