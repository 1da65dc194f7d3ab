"""Moves with times: in full within them, not at all outside, over from one to the other without a click."""

import numpy as np
import pytest
import scipy.signal
from pydantic import ValidationError

from mivlo.core.engine.mix import Mix
from mivlo.core.engine.player import Player
from mivlo.core.engine.render import render_moves, replay
from mivlo.core.engine.source import ArraySource
from mivlo.core.model import LedgerEntry, Track
from mivlo.core.moves.bell import Bell
from mivlo.core.moves.dynamic_bell import DynamicBell
from mivlo.core.moves.low_cut import LowCut
from mivlo.core.moves.plane import Plane
from mivlo.core.processors.timed import EDGE_S

RATE = 48_000
TIMES = ((0.5, 1.0), (1.5, 2.2))


def timed(move, times=TIMES):
    return move.model_copy(update={"times_s": times})


def rendered(samples: np.ndarray, *moves, **fields) -> np.ndarray:
    ledger = tuple(LedgerEntry(id=f"e{i}", move=move) for i, move in enumerate(moves))
    mix = Mix(tracks=(Track(id="a", audio_id="a", ledger=ledger, **fields),))
    return Player(mix, lambda _: ArraySource(samples), start_frame=0, sample_rate_hz=RATE, live=False).render(
        samples.shape[1]
    )


def within(times, reach_s: float) -> np.ndarray:
    at = np.arange(3 * RATE) / RATE
    return np.any([(at >= start - reach_s) & (at <= end + reach_s) for start, end in times], axis=0)


@pytest.mark.parametrize("phase", ["minimum", "linear"])
@pytest.mark.parametrize(
    "move",
    [Bell(hz=700, gain_db=-12, q=2), LowCut(hz=200), Plane(), DynamicBell(hz=700, threshold_db=-60, lookahead_ms=10)],
)
def test_a_move_acts_in_full_within_its_times_and_not_at_all_outside(move, phase):
    noise = 0.1 * np.random.default_rng(5).standard_normal((2, 3 * RATE))
    always, dry, some = (rendered(noise, *moves, phase=phase) for moves in ((move,), (), (timed(move),)))
    inside, outside = within(TIMES, 0.0), ~within(TIMES, EDGE_S)
    assert np.array_equal(some[:, outside], dry[:, outside])
    assert np.max(np.abs(some[:, inside] - always[:, inside])) < 1e-12
    assert np.max(np.abs(always - dry)[:, inside]) > 1e-3


def test_the_edges_do_not_click_and_last_10_to_30_ms():
    tone = 0.5 * np.sin(2 * np.pi * 100 * np.arange(3 * RATE) / RATE)[None]
    treated = rendered(tone, timed(Bell(hz=100, gain_db=-18, q=1)))[0]
    high = scipy.signal.sosfiltfilt(scipy.signal.butter(6, 2_000, "high", fs=RATE, output="sos"), treated)
    assert 20 * np.log10(np.max(np.abs(high[2_400:-2_400])) / 0.5) < -90  # the same faded in no time: -40 dB
    assert 0.010 <= EDGE_S <= 0.030


def test_live_changes_of_times_equal_the_replay_round_a_loop_and_for_offcuts():
    noise = 0.1 * np.random.default_rng(6).standard_normal((2, 3 * RATE))
    moves = (
        timed(Bell(hz=700, gain_db=-12, q=2), ((0.0, 0.3),)),
        timed(DynamicBell(hz=2_000, threshold_db=-60), ((0.1, 0.2),)),
    )

    def mix(*chosen, **fields) -> Mix:
        ledger = tuple(LedgerEntry(id=f"e{i}", move=move) for i, move in enumerate(chosen))
        strip = Track(id="a", audio_id="a", ledger=ledger)
        return Mix(tracks=(strip,), loop_start_frame=4_800, loop_end_frame=24_000, **fields)

    log, parts = [], []
    player = Player(mix(*moves), lambda _: ArraySource(noise), start_frame=4_800, sample_rate_hz=RATE)
    for changed in (mix(timed(moves[0], ((0.2, 0.4),)), moves[1]), mix(*moves, offcuts_track_id="a")):
        parts.append(player.render(31_000))
        log.append((player.frame, changed))
        player.apply(changed)
    parts.append(player.render(31_000))
    played = np.concatenate(parts, axis=1)
    again = replay(
        mix(*moves), log, lambda _: ArraySource(noise), start_frame=4_800, n_frames=played.shape[1], sample_rate_hz=RATE
    )
    assert np.array_equal(played, again)
    alone = Player(
        mix(moves[0], offcuts_track_id="a"), lambda _: ArraySource(noise), start_frame=4_800, sample_rate_hz=RATE
    )
    offcuts = alone.render(19_200)
    assert np.std(offcuts[:, :4_000]) > 10 * np.std(offcuts[:, 13_500:17_500])  # taken away up to 0.3 s only


def test_times_that_make_no_sense_are_refused():
    for times in (((1.0, 0.5),), ((0.0, 1.0), (0.5, 2.0)), ((-1.0, 1.0),)):
        with pytest.raises(ValidationError, match="in order and apart"):
            Bell(hz=100, times_s=times)
    later = Bell(hz=100, gain_db=-6, times_s=((2.0, 3.0),))
    moved = np.concatenate(list(render_moves(ArraySource(np.ones((1, RATE))), [later], sample_rate_hz=RATE)), axis=1)
    assert np.array_equal(moved, np.ones((1, RATE)))
