"""The parts under the engine: where the stream is, what is kept of it, gains that glide, files that are read in
place."""

import numpy as np
import pytest

from mivlo.core.engine.audible import audible_tracks
from mivlo.core.engine.mix import Mix
from mivlo.core.engine.pipeline import SAVE_EVERY_FRAMES, Pipeline
from mivlo.core.engine.player import Player
from mivlo.core.engine.ramp import STEPS, Ramp
from mivlo.core.engine.source import SEAM_FRAMES, ArraySource, Transport, open_source
from mivlo.core.engine.strip import BLOCK_GRID_FRAMES, start_of_preroll
from mivlo.core.engine.tape import Tape
from mivlo.core.kernels import CONTROL_FRAMES
from mivlo.core.model import Group, LedgerEntry, Track
from mivlo.core.moves.bell import Bell
from mivlo.core.moves.dynamic_bell import DynamicBell
from mivlo.core.processors.chain import ChainSpec, KeyedSection
from mivlo.core.processors.stage import no_key
from mivlo.core.settings_list import list_rows, to_csv, to_page

RATE = 48_000


def test_the_stream_goes_round_its_loop_and_can_be_read_anywhere():
    transport = Transport(1_000, 1_000, (6_400, 12_800))
    assert [transport.position_at(frame) for frame in (500, 1_000, 12_799, 12_800, 19_200)] == [
        500,
        1_000,
        12_799,
        6_400,
        6_400,
    ]
    whole = [(s.start + i, s.seam is not None) for s in transport.segments(1_000, 30_000) for i in range(s.n_frames)]
    pieces = [
        (s.start + i, s.seam is not None)
        for at in range(1_000, 31_000, 777)
        for s in transport.segments(at, min(777, 31_000 - at))
        for i in range(s.n_frames)
    ]
    assert pieces == whole
    assert sum(seam for _, seam in whole) >= 3 * SEAM_FRAMES
    transport.set_loop(None, frame=13_000)
    assert transport.position_at(13_000) == 6_600
    assert transport.position_at(20_000) == 13_600
    behind = Transport(0, 20_000, (6_400, 12_800))
    assert behind.position_at(50_000) == 70_000  # a loop that lies behind is not entered


def test_a_tape_gives_back_what_was_written():
    tape, sound = Tape(2, frame=100), np.random.default_rng(1).standard_normal((2, 1_000))
    for start in range(0, 1_000, 300):
        tape.append(sound[:, start : start + 300])
    assert tape.until == 1_100
    assert np.array_equal(tape.read(100, 1_000), sound)
    assert np.array_equal(tape.read(350, 100), sound[:, 250:350])
    tape.cut(500)
    tape.append(np.ones((2, 50)))
    assert np.array_equal(tape.read(480, 70), np.concatenate([sound[:, 380:400], np.ones((2, 50))], axis=1))
    tape.forget_before(420)
    assert np.array_equal(tape.read(420, 80), sound[:, 320:400])
    assert not np.any(tape.read(100, 100))  # silence where nothing is any more


def test_a_ramp_glides_from_where_it_is_and_can_be_read_again():
    ramp = Ramp(1.0)
    ramp.set_goal(0.0, frame=1_000)
    whole = np.array([ramp.at(frame) for frame in range(900, 1_700)])
    assert np.allclose(ramp.take(900, 800), whole)
    assert whole[0] == 1.0
    assert whole[-1] == 0.0
    assert ramp.take(1_000 + STEPS * CONTROL_FRAMES, 10) == 0.0
    ramp.set_goal(1.0, frame=1_256)  # half way down
    assert ramp.at(1_256) == pytest.approx(0.5, abs=0.01)
    assert np.max(np.abs(np.diff(np.broadcast_to(ramp.take(1_256, 900), (900,))))) < 0.01


def test_prerolls_begin_on_the_grid_of_blocks():
    for start in (0, 5_000, 48_000, 480_001 // 64 * 64):
        first = start_of_preroll(start, memory_s=1.0, sample_rate_hz=RATE)
        assert first % BLOCK_GRID_FRAMES == 0
        assert first == 0 or start - first >= RATE
        assert start_of_preroll(start, memory_s=0.0, sample_rate_hz=RATE) == start  # nothing that remembers
    assert start_of_preroll(-640, memory_s=1.0, sample_rate_hz=RATE) < -RATE  # before the session's first sample


def test_a_stored_file_reads_as_the_array_that_it_holds(tmp_path):
    sound = np.random.default_rng(2).standard_normal((2, 5_000)).astype(np.float32)
    np.save(tmp_path / "s.npy", sound)
    stored, array = open_source(tmp_path / "s.npy"), ArraySource(sound)
    assert (stored.n_channels, stored.n_frames) == (2, 5_000)
    for start, count in ((0, 5_000), (-100, 300), (4_900, 500), (6_000, 10), (123, 1)):
        assert np.array_equal(stored.read(start, count), array.read(start, count))


def delayed(hz: float, lookahead_ms: float) -> DynamicBell:
    return DynamicBell(hz=hz, threshold_db=-40, lookahead_ms=lookahead_ms)


def test_a_pipeline_taken_back_gives_what_it_would_have_given():
    sound = 0.1 * np.random.default_rng(3).standard_normal((2, 80_000))

    def read(frame: int, n_frames: int) -> np.ndarray:
        out = np.zeros((2, n_frames))
        part = sound[:, frame : frame + n_frames]
        out[:, : part.shape[1]] = part
        return out

    def specs(gain_db: float):
        section = Bell(hz=1_000, gain_db=gain_db, q=2).sections(RATE)[0]
        moves = {"first": delayed(900, 30), "last": delayed(3_000, 10)}
        first, last = (move.stage(key, on=True, keepers=(), sample_rate_hz=RATE) for key, move in moves.items())
        return [first, ChainSpec("c", (KeyedSection("k", section),)), last]

    def made() -> Pipeline:
        return Pipeline(specs(-6.0), 2, start=0, sample_rate_hz=RATE, rewindable=True)

    straight = made()
    first = straight.run(19_200, read, no_key)
    straight.rewind(19_200, read, no_key)
    straight.retune(specs(6.0))
    then = straight.run(38_400, read, no_key)
    ahead = made()
    assert np.array_equal(ahead.run(40_000 // 64 * 64, read, no_key)[:, :19_200], first)
    ahead.rewind(19_200, read, no_key)  # from far ahead: over several saved states
    assert ahead.position == 19_200
    ahead.retune(specs(6.0))
    assert np.array_equal(ahead.run(38_400, read, no_key), then)
    assert ahead.latency_frames == straight.latency_frames > 0
    assert SAVE_EVERY_FRAMES % CONTROL_FRAMES == 0
    # Rendered by turns with many and with few saved states, taken back again and again, by little and by much.
    whole = made().run(79_872, read, no_key)
    for seed in range(6):
        random, pipeline, played = np.random.default_rng(seed), made(), 0
        while played < 64_000:
            reach = played + int(random.integers(1, 400)) * CONTROL_FRAMES
            ahead_of_it = [
                pipeline.run(until, read, no_key, far_ahead=bool(random.integers(2)))
                for until in sorted({min(reach, 79_872), min(reach + 4_096, 79_872)})
                if until > pipeline.position
            ]
            played = (
                int(random.integers(played // CONTROL_FRAMES, pipeline.position // CONTROL_FRAMES + 1)) * CONTROL_FRAMES
            )
            pipeline.rewind(played, read, no_key)
            pipeline.forget_before(played)
            assert pipeline.position == played
            assert all(np.isfinite(part).all() for part in ahead_of_it)
            if played < 79_872:
                step = slice(played, played + CONTROL_FRAMES)
                assert np.array_equal(pipeline.run(step.stop, read, no_key), whole[:, step])


def test_soloing_and_listening_alone_go_by_groups():
    def heard(*groups: Group, alone: str | None = None, **solo: bool) -> set[str]:
        tracks = tuple(Track(id=name, audio_id=name, group_id=group, solo=solo.get(name, False)) for name, group in
                       (("a", "g"), ("b", "g"), ("c", None)))  # fmt: skip
        audible = audible_tracks(Mix(tracks=tracks, groups=groups, alone_track_id=alone))
        return {name for name, loud in audible.items() if loud}

    g = Group(id="g")
    assert heard(g) == {"a", "b", "c"}
    assert heard(g.model_copy(update={"solo": True})) == {"a", "b"}
    assert heard(g, a=True) == {"a"}
    assert heard(g.model_copy(update={"mute": True}), a=True) == set()
    assert heard(g, alone="g") == {"a", "b"}
    assert heard(g, alone="g", a=True) == {"a"}
    assert heard(g, alone="mix") == {"a", "b", "c"}
    assert heard(g.model_copy(update={"mute": True}), alone="a") == {"a"}


def test_offcuts_of_a_dynamic_move_sound_only_while_it_acts():
    tone = 0.3 * np.sin(2 * np.pi * 1_000 * np.arange(3 * RATE) / RATE)
    tone[: RATE + RATE // 2] *= 0.01
    move = DynamicBell(hz=1_000, q=1, threshold_db=-30, depth_db=-12, ratio=100, attack_ms=5, release_ms=50)
    track = Track(id="a", audio_id="a", ledger=(LedgerEntry(id="m", move=move),))
    mix = Mix(tracks=(track,), offcuts_track_id="a")
    out = Player(mix, lambda _: ArraySource(tone[None, :]), start_frame=0, sample_rate_hz=RATE).render(3 * RATE)[0]
    quiet, loud = (
        float(np.sqrt(2 * np.mean(out[a:b] ** 2))) for a, b in ((RATE // 2, RATE), (2 * RATE, 5 * RATE // 2))
    )
    assert quiet < 1e-4
    assert 20 * np.log10(loud / 0.3) == pytest.approx(20 * np.log10(1 - 10 ** (-12 / 20)), abs=0.5)


def test_the_settings_list_tells_all_of_a_dynamic_move():
    move = DynamicBell(hz=3_000, q=2, depth_db=-5, threshold_db=-28, listens_to="v", channel="mid")
    track = Track(id="a", audio_id="a", ledger=(LedgerEntry(id="m", move=move, reason="hides the voice"),))
    rows = list_rows([("Guitar", track), ("Voice", Track(id="v", audio_id="v"))], sample_rate_hz=RATE)
    assert rows[0]["kind"] == "Dynamic bell"
    assert rows[0]["gain_db"] == "-5.00"
    assert rows[0]["acts_on"] == "mid"
    for told in ("threshold -28 dBFS", "listens to Voice", "ratio 4:1", "attack 8 ms"):
        assert told in rows[0]["further"]
    assert "listens to a track that is gone" in list_rows([("Guitar", track)], sample_rate_hz=RATE)[0]["further"]
    assert "hides the voice" in to_csv(rows)
    assert "listens to Voice" in to_page("Session", rows)
