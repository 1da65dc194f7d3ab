"""What the page really plays, captured at the worklet, against the offline render: sample for sample."""

import base64

import numpy as np
from playwright.sync_api import Page

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


def captured(page: Page, from_frame: int, steps: list[dict]) -> tuple[np.ndarray, dict]:
    sound = page.evaluate(CAPTURE, [from_frame, FRAMES, steps])
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
    again = replay(mix, changes, opener(mivlo), start_frame=start, n_frames=FRAMES, sample_rate_hz=RATE)
    assert np.array_equal(played, again.astype(np.float32))
