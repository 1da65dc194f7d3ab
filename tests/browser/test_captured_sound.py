"""What the page really plays, captured at the worklet, against the offline render: sample for sample."""

import base64

import numpy as np
from playwright.sync_api import Page, expect

from mivlo.core.engine.mix import Mix
from mivlo.core.engine.render import render_mix, replay
from mivlo.core.engine.source import open_source

RATE = 48_000
FRAMES = 96_000
CAPTURE = """async ([from, frames, steps]) => {
    const { play, session } = window.mivlo
    await play.open()
    const captured = play.monitor().capture(frames)
    await play.play(from)
    for (const step of steps) {
        const before = play.positionFrame.value
        while (play.positionFrame.value < before + 6000) await new Promise((next) => setTimeout(next, 5))
        if (step.probe !== undefined) play.probe.value = step.probe && { ...step.probe, track_id:
        session.chosen.value.id }
        if (step.alone !== undefined) play.alone.value = step.alone
        if (step.dim !== undefined) play.dim.value = step.dim
        if (step.offcuts !== undefined) play.offcuts.value = step.offcuts
        if (step.intents !== undefined) await session.edit('a step', step.intents)
        if (step.treatment !== undefined) window.mivlo.treatments.go(step.treatment)
    }
    const sound = await captured
    play.stop()
    const text = (samples) => {
        const bytes = new Uint8Array(samples.buffer)
        let out = ''
        for (let i = 0; i < bytes.length; i += 32768) out += String.fromCharCode(...bytes.subarray(i, i + 32768))
        return btoa(out)
    }
    return { ...sound, left: text(sound.left), right: text(sound.right) }
}"""


def captured(page: Page, from_frame: int, steps: list[dict], n_frames: int = FRAMES) -> tuple[np.ndarray, dict]:
    sound = page.evaluate(CAPTURE, [from_frame, n_frames, steps])
    return np.stack([np.frombuffer(base64.b64decode(sound[side]), "<f4") for side in ("left", "right")]), sound


def opener(mivlo):
    return lambda audio_id: open_source(mivlo.data / "audio" / audio_id / "session.npy")


def test_from_the_start_of_play_it_is_the_offline_render(bench, page: Page, mivlo):
    bench.open_demo("Squeezebox")
    page.mouse.move(*bench.point(2_937))
    page.keyboard.press("c")
    bench.saved()
    page.keyboard.press("a")  # the whole mix
    page.wait_for_function("() => window.mivlo.play.match.value")  # else it would come in the middle
    played, sound = captured(page, 480_000, [])
    assert sound["changes"] == [] or all(change["frame"] == 0 for change in sound["changes"])
    mix = Mix.model_validate(sound["startMix"])
    assert len(mix.tracks) == 9
    start = sound["startFrame"]
    blocks = list(render_mix(mix, opener(mivlo), start=start, end=start + FRAMES, sample_rate_hz=RATE))
    rendered = np.concatenate(blocks, axis=1)
    assert np.max(np.abs(played)) > 0.01
    assert np.array_equal(played, rendered.astype(np.float32))
    page.keyboard.press("Control+z")
    bench.saved()


def test_with_changes_it_is_the_replay_of_its_log(bench, page: Page, mivlo):
    bench.open_demo("Frame drum")
    page.wait_for_function("() => window.mivlo.play.match.value")
    steps = [
        {"probe": {"kind": "lift", "hz": 431.0, "amount_db": 15.0, "width_octaves": 0.25}},
        {"probe": {"kind": "lift", "hz": 700.0, "amount_db": 15.0, "width_octaves": 0.5}}, {"probe": None},
        {"alone": False}, {"dim": True}, {"dim": False, "offcuts": True},
    ]  # fmt: skip
    played, sound = captured(page, 240_000, steps)
    assert len(sound["changes"]) >= len(steps)
    changes = [(change["frame"], Mix.model_validate(change["mix"])) for change in sound["changes"]]
    mix, start = Mix.model_validate(sound["startMix"]), sound["startFrame"]
    again = replay(mix, changes, opener(mivlo), start_frame=start, n_frames=played.shape[1], sample_rate_hz=RATE)
    assert np.array_equal(played, again.astype(np.float32))


def test_ways_that_sound_takes_are_changed_while_it_plays(bench, page: Page, mivlo):
    """A group made and sent to in the interface; then, in play, its level, what is in it, and where it goes itself."""
    bench.open_demo("Lead voice")
    page.get_by_role("link", name="Gather").click()
    page.get_by_role("button", name="a new group").click()
    groups = page.get_by_label("Groups")
    groups.get_by_label("Name of group Group 1").fill("Hall")
    groups.get_by_label("Name of group Group 1").press("Enter")
    groups.get_by_label("Send a track or group to Hall").select_option(label="Lead voice")
    level = groups.get_by_label("Send of Lead voice to Hall")
    level.fill("-6 dB")
    level.press("Enter")
    bench.saved()
    groups.get_by_role("button", name="a new group").click()
    expect(groups.get_by_label("Name of group Group 2")).to_be_visible()
    groups.get_by_label("Group of Hall").select_option(label="Group 2")
    bench.saved()
    # What would let sound go round in a circle is not offered, and refused where it is asked for all the same.
    assert "Hall" not in groups.get_by_label("Group of Group 2").inner_text()
    state = page.evaluate("() => JSON.parse(JSON.stringify(window.mivlo.session.state.value))")
    hall, outer = (group["id"] for group in state["groups"])
    voice = next(track["id"] for track in state["tracks"] if track["name"] == "Lead voice")
    drum = next(track["id"] for track in state["tracks"] if track["name"] == "Frame drum")
    circle = {"do": "set-group", "group_id": outer, "fields": {"group_id": hall}, "seen": {"group_id": None}}
    page.evaluate("(intent) => window.mivlo.session.edit('round', [intent])", circle)
    expect(
        page.get_by_text("“Hall” → “Group 2” → “Hall”").or_(page.get_by_text("“Group 2” → “Hall” → “Group 2”"))
    ).to_be_visible()

    page.get_by_role("link", name="Bench", exact=True).click()
    expect(page.get_by_test_id("spectrum")).to_be_visible()
    page.keyboard.press("a")  # the whole mix
    page.wait_for_function("() => window.mivlo.play.match.value")

    def send(strip_id: str, level_db: float | None, seen_db: float | None) -> dict:
        return {"do": "set-send", "strip_id": strip_id, "to_id": hall, "level_db": level_db, "seen_db": seen_db}

    def within(group_id: str | None, seen: str | None) -> dict:
        return {"do": "set-track", "track_id": drum, "fields": {"group_id": group_id}, "seen": {"group_id": seen}}

    bell = {"kind": "bell", "hz": 900.0, "gain_db": -9.0, "q": 2.0}
    steps = [
        [send(voice, 0.0, -6.0)], [send(drum, -3.0, None)], [within(hall, None)],
        [{"do": "add-move", "strip_id": hall, "entry": {"id": "b", "move": bell}}], [send(voice, None, 0.0)],
        [{"do": "set-group", "group_id": hall, "fields": {"group_id": None}, "seen": {"group_id": outer}}],
        [within(outer, hall)],
    ]  # fmt: skip
    played, sound = captured(page, 240_000, [{"intents": intents} for intents in steps], 4 * FRAMES)
    changes = [(change["frame"], Mix.model_validate(change["mix"])) for change in sound["changes"]]
    # Edits that come close together are heard as one: on a busy machine most of them do.
    assert len({str([(one.group_id, one.sends) for one in (*mix.tracks, *mix.groups)]) for _, mix in changes}) >= 2
    mix, start = Mix.model_validate(sound["startMix"]), sound["startFrame"]
    again = replay(mix, changes, opener(mivlo), start_frame=start, n_frames=played.shape[1], sample_rate_hz=RATE)
    assert np.array_equal(played, again.astype(np.float32))
