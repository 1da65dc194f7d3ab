"""Moves that act at times or by themselves, on the bench: set by eye on the live level, heard, copied, grouped."""

import numpy as np
from playwright.sync_api import Page, expect

from mivlo.core.engine.mix import Mix
from mivlo.core.engine.render import render_mix, replay
from mivlo.core.moves import MOVE_KINDS

from .test_captured_sound import FRAMES, RATE, captured, opener

GAINS = "() => (window.mivlo.play.gains.value?.moves ?? []).map((move) => move.gain_db)"
EVERY_KIND = [
    {"kind": "bell", "hz": 431, "gain_db": -6, "q": 8}, {"kind": "low-cut", "hz": 60}, {"kind": "notch", "hz": 2_937},
    {"kind": "note-family", "hz": 50, "count": 4}, {"kind": "low-shelf", "hz": 150, "gain_db": -2, "channel": "mid"},
    {"kind": "dynamic-bell", "hz": 3_000, "threshold_db": -50, "lookahead_ms": 10},
    {"kind": "high-shelf", "hz": 6_000, "gain_db": 1}, {"kind": "dynamic-low-shelf", "hz": 200, "threshold_db": -40},
    {"kind": "dynamic-high-shelf", "hz": 6_000, "threshold_db": -50},
    {"kind": "flat-bell", "hz": 900, "gain_db": -3}, {"kind": "dynamic-flat-bell", "hz": 700, "threshold_db": -50},
    {"kind": "dynamic-low-cut", "hz": 120, "threshold_db": -40}, {"kind": "high-cut", "hz": 16_000}, {"kind": "plane"},
    {"kind": "compressor", "threshold_db": -40, "placing": "beside"}, {"kind": "room", "decay_s": 0.5},
    {"kind": "warmth"}, {"kind": "air"}, {"kind": "drive", "drive_db": 2}, {"kind": "trim", "gain_db": -1},
]  # fmt: skip
FILL = """async (moves) => {
    const { session } = window.mivlo
    const state = session.state.value
    const entries = (list, prefix) => list.map((move, n) => ({ id: prefix + n, move, reason: '' }))
    const [first, second, third] = state.tracks
    const yields = { kind: 'dynamic-bell', hz: 1000, threshold_db: -50, depth_db: -4, listens_to: first.id }
    const group = 'c0ffee00c0ffee00c0ffee00c0ffee00'
    const add = (strip, list) => list.map((entry) => ({ do: 'add-move', strip_id: strip.id, entry }))
    const join = (track) => ({ do: 'set-track', track_id: track.id, fields: { group_id: group }, seen: {} })
    const linear = { do: 'set-ledger', strip_id: third.id, fields: { phase: 'linear' }, seen: {} }
    await session.edit('Fill', [
        { do: 'add-group', group_id: group, name: 'Reeds' }, ...add(first, entries(moves, 'a')),
        ...add(second, entries([yields, moves[0]], 'b')), join(second), join(third), linear,
        ...add(third, entries(moves.slice(0, 3), 'c')), ...add({ id: group }, entries([moves[5]], 'g')),
        ...add(state.master, entries([moves[0]], 'm')),
    ])
}"""


def test_a_threshold_is_set_on_the_live_level_and_the_gain_trace_moves(bench, page: Page):
    bench.open_demo("Lead voice")
    page.evaluate(
        "() => window.mivlo.bench.setLoop({ startS: 6, endS: 12 })"
    )  # it sings there, however long this takes
    page.mouse.move(*bench.point(3_200))
    page.keyboard.press("c")
    move = page.get_by_test_id("move")
    move.get_by_label("Kind").select_option("dynamic-bell")
    move.get_by_role("button", name="when loud").click()
    expect(move.get_by_label("Attack")).to_have_value("8 ms")  # a ready-made start is plain values
    bench.play()
    page.wait_for_function("() => (window.mivlo.play.gains.value?.moves[0]?.level_db ?? -200) > -70")
    meter = page.get_by_test_id("threshold").bounding_box()
    assert meter
    page.mouse.move(meter["x"] + 0.6 * meter["width"], meter["y"] + 8)
    page.mouse.down()
    page.mouse.move(meter["x"] + 0.25 * meter["width"], meter["y"] + 8, steps=8)
    page.mouse.up()
    bench.saved()
    threshold = bench.chosen()["ledger"][0]["move"]["threshold_db"]
    assert -75 < threshold < -55
    before = page.get_by_test_id("gain-trace").get_attribute("d")
    page.wait_for_function(f"() => Math.min(0, ...({GAINS})()) < -2")
    page.wait_for_timeout(400)
    assert page.get_by_test_id("gain-trace").get_attribute("d") != before
    # The note itself says what the move does, and the spectrum shows it.
    expect(page.get_by_test_id("gain-now")).to_contain_text("dB")
    page.get_by_test_id("play").click()


def test_what_is_heard_of_a_session_with_every_kind_of_move_is_the_render(bench, page: Page, mivlo):
    bench.open_demo("Lead voice")
    assert {one["kind"] for one in EVERY_KIND} == set(MOVE_KINDS)
    page.evaluate(FILL, EVERY_KIND)
    bench.saved()
    page.keyboard.press("a")  # in the mix
    # The level match of the whole song is measured first: it would be a change in the middle of the capture.
    page.wait_for_function("() => window.mivlo.play.match.value", timeout=120_000)
    page.wait_for_timeout(1_000)
    played, sound = captured(page, 480_000, [])
    assert sound["changes"] == [] or all(change["frame"] == 0 for change in sound["changes"])
    mix, start = Mix.model_validate(sound["startMix"]), sound["startFrame"]
    blocks = list(render_mix(mix, opener(mivlo), start=start, end=start + FRAMES, sample_rate_hz=RATE))
    assert np.array_equal(played, np.concatenate(blocks, axis=1).astype(np.float32))
    # And with changes while it plays, it is the replay of its log.
    dip = {"kind": "dip", "hz": 900.0, "width_octaves": 1.0}
    played, sound = captured(page, 240_000, [{"alone": True}, {"probe": dip}, {"probe": None}])
    assert len(sound["changes"]) >= 3
    changes = [(change["frame"], Mix.model_validate(change["mix"])) for change in sound["changes"]]
    mix, start = Mix.model_validate(sound["startMix"]), sound["startFrame"]
    again = replay(mix, changes, opener(mivlo), start_frame=start, n_frames=FRAMES, sample_rate_hz=RATE)
    assert np.array_equal(played, again.astype(np.float32))
    page.get_by_role("button", name="undo").click()
    bench.saved()


def test_groups_twins_copies_and_keepers_by_hand(bench, page: Page):
    bench.open_demo("Frame drum")
    page.get_by_role("link", name="Gather", exact=True).click()
    for track in ("Frame drum", "Box drum"):
        group = "a new group" if track == "Frame drum" else "Group 1"
        page.get_by_label(f"Group of {track}").select_option(label=group)
        bench.saved()
    page.get_by_label("Twin of Box drum").select_option(label="Frame drum")
    bench.saved()
    page.get_by_label("Groups").get_by_role("link", name="to the bench").click()
    expect(page.get_by_test_id("spectrum")).to_be_visible()
    page.mouse.move(*bench.point(200))
    page.keyboard.press("c")  # a cut on the group
    bench.saved()
    move = page.get_by_test_id("move")
    move.get_by_label("Copy this move to").select_option(label="Frame drum")
    bench.saved()
    for hz in (3_000, 7_000):
        page.mouse.move(*bench.point(hz))
        page.keyboard.press("c")
        bench.saved()
    for index in (0, 2):  # two of three, picked
        move.nth(index).get_by_title("Click to open").click(modifiers=["Shift"])
    expect(page.get_by_label("Copy moves to").locator("option").first).to_have_text("copy 2 picked to")
    page.get_by_label("Copy moves to").select_option(label="Lead voice")
    bench.saved()
    listed = page.evaluate("() => JSON.parse(JSON.stringify(window.mivlo.session.state.value.tracks))")
    tracks = {track["name"]: track for track in listed}
    of_group = page.evaluate("() => JSON.parse(JSON.stringify(window.mivlo.session.state.value.groups[0].ledger))")
    assert [one["move"] for one in tracks["Lead voice"]["ledger"]] == [of_group[0]["move"], of_group[2]["move"]]
    assert len(tracks["Frame drum"]["ledger"]) == 1
    assert tracks["Box drum"]["ledger"][0]["move"] == tracks["Frame drum"]["ledger"][0]["move"]  # twins
    page.get_by_role("button", name="Frame drum", exact=True).click()
    expect(page.get_by_text("twin of Box drum")).to_be_visible()
    page.mouse.move(*bench.point(5_000))
    page.keyboard.press("p")
    page.get_by_test_id("pin").get_by_role("button", name="keep").click()
    expect(page.get_by_test_id("keeper")).to_contain_text("kept")
    bench.saved()
    state = page.evaluate("() => JSON.parse(JSON.stringify(window.mivlo.session.state.value))")
    assert state["groups"][0]["ledger"][0]["move"]["kind"] == "bell"
    drum = next(track for track in state["tracks"] if track["id"] == tracks["Frame drum"]["id"])
    assert drum["keepers"][0]["low_hz"] < 5_000 < drum["keepers"][0]["high_hz"]
    for _ in range(10):
        page.get_by_role("button", name="undo").click()
        bench.saved()
    expect(page.get_by_test_id("group")).to_have_count(1)  # only the mix is left


def test_forms_follow_the_kind_and_ready_made_starts_are_plain_values(bench, page: Page):
    bench.open_demo("Squeezebox")
    page.mouse.move(*bench.point(2_900))
    page.keyboard.press("c")
    move = page.get_by_test_id("move")
    move.get_by_label("Kind").select_option("plane")
    move.get_by_role("button", name="fizz").click()
    expect(move.get_by_label("From", exact=True)).to_have_value("2.500 kHz")
    bench.figure("Amount", "55 %")
    bench.saved()
    plane = bench.chosen()["ledger"][0]["move"]
    assert (plane["kind"], plane["amount"], plane["low_hz"]) == ("plane", 55, 2_500)
    bench.figure("Amount", "400")
    expect(move.get_by_role("alert")).to_contain_text("0 % to 100 %")  # refused where it is typed, with its range
    move.get_by_label("Kind").select_option("note-family")
    move.get_by_role("button", name="mains hum 50 Hz").click()
    move.get_by_title("Member 3: in").click()
    bench.saved()
    family = bench.chosen()["ledger"][0]["move"]
    assert (family["hz"], family["count"], family["left_out"]) == (50, 12, [3])
    move.get_by_label("Kind").select_option("dynamic-bell")
    move.get_by_role("button", name="give way to").click()
    move.get_by_label("Listens to").select_option(label="Lead voice")
    expect(move).to_contain_text("listens to Lead voice")
    move.get_by_label("Listens at", exact=True).fill("1.2k")
    move.get_by_label("Listens at", exact=True).press("Enter")
    bench.saved()
    dynamic = bench.chosen()["ledger"][0]["move"]
    assert dynamic["key_hz"] == 1_200
    tracks = page.evaluate("() => JSON.parse(JSON.stringify(window.mivlo.session.state.value.tracks))")
    assert dynamic["listens_to"] == next(track["id"] for track in tracks if track["name"] == "Lead voice")
    page.get_by_test_id("phase").select_option("linear")
    bench.saved()
    assert bench.chosen()["phase"] == "linear"
    while page.get_by_role("button", name="undo").is_enabled() and page.get_by_test_id("move").count():
        page.get_by_role("button", name="undo").click()
        bench.saved()
    expect(page.get_by_test_id("move")).to_have_count(0)
