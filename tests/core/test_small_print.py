"""Single lines on which a figure hangs, each against the definition or standard that it comes from."""

from itertools import pairwise

import numpy as np
import pytest

from mivlo.core.engine.guard import Guard
from mivlo.core.engine.mix import GuardReference, Mix
from mivlo.core.engine.render import render_mix
from mivlo.core.engine.source import ArraySource
from mivlo.core.filters.analog import butterworth, response
from mivlo.core.level_match import loudness_of
from mivlo.core.loudness import integrated_loudness, true_peak_db
from mivlo.core.model import Group, LedgerEntry, Track
from mivlo.core.moves.bell import Bell
from mivlo.core.moves.dynamic_bell import DynamicBell

RATE = 48_000


@pytest.mark.parametrize("high_pass", [False, True])
def test_the_q_of_a_cut_multiplies_that_of_its_sharpest_section_alone(high_pass):
    hz = np.array([300.0, 700.0, 1_000.0, 1_400.0, 3_000.0])
    s = 1j * hz / 1_000.0
    # Butterworth of order 4 (handbook table: Q 0.5412 and 1.3066), the sharper one times q / 0.7071.
    wanted = np.ones(len(hz), dtype=complex)
    for q in (0.541196, 1.306563 * 2.0 / 0.707107):
        wanted *= (s**2 if high_pass else 1.0) / (s**2 + s / q + 1.0)
    found = response(butterworth(1_000.0, 4, high_pass=high_pass, q=2.0), hz)
    assert np.max(np.abs(20 * np.log10(np.abs(found / wanted)))) < 1e-4


def tone(level_dbfs: float, seconds: float) -> np.ndarray:
    """Return a stereo tone of 1 kHz whose loudness reads its level, as BS.1770-4 is calibrated."""
    t = np.arange(round(seconds * RATE)) / RATE
    return np.tile(10.0 ** (level_dbfs / 20.0) * np.sin(2 * np.pi * 1_000.0 * t), (2, 1))


def test_what_is_under_the_absolute_gate_counts_for_nothing():
    # 10 LU under the mean of both would be -76.3: only the absolute gate of -70 LUFS leaves the quieter half out.
    faint = np.concatenate([tone(-64.0, 10.0), tone(-71.5, 10.0)], axis=1)
    assert integrated_loudness(faint, sample_rate_hz=RATE) == pytest.approx(-64.0, abs=0.1)


def test_loudness_and_true_peak_are_those_of_the_whole_however_it_is_cut():
    x = np.random.default_rng(1).standard_normal((2, 700_001)) * 0.1
    whole = loudness_of([x], sample_rate_hz=RATE)
    cuts = [0, 1, 999, 262_144, 262_656, 300_000, 699_999, 700_001]
    parts = [x[:, a:b] for a, b in pairwise(cuts)]
    again = loudness_of(parts, sample_rate_hz=RATE)
    assert again.loudness_lufs == pytest.approx(whole.loudness_lufs, abs=1e-9)
    assert again.true_peak_db == pytest.approx(whole.true_peak_db, abs=1e-9)
    # A quarter of the rate, at 45 degrees, faded at its ends: -3.01 dBTP everywhere, at the seams of chunks too.
    n = np.arange(600_000)
    steady = np.sin(np.pi / 2 * n + np.pi / 4) * np.minimum(1.0, np.minimum(n, n[::-1]) / 4_800) * 10 ** (-3.01 / 20)
    assert true_peak_db(steady[None, :]) == pytest.approx(-3.01, abs=0.02)


def test_the_guard_holds_the_true_peak_where_no_sample_shows_it():
    n = np.arange(2 * RATE)
    x = np.tile(1.2 * np.sin(np.pi / 2 * n + np.pi / 4), (2, 1))  # samples of 0.85, true peaks of 1.2
    guard = Guard(RATE)
    loud = GuardReference(loudness_lufs=20.0, true_peak_db=None)
    parts = [guard.push(x[:, at : at + 64], loud) for at in range(0, x.shape[1], 64)]
    assert true_peak_db(np.concatenate(parts, axis=1)[:, RATE // 2 : -RATE // 2]) < -0.9  # the ceiling is -1 dBTP


def rendered(mix: Mix, sources: dict, start: int, end: int) -> np.ndarray:
    blocks = render_mix(mix, sources.__getitem__, start=start, end=end, sample_rate_hz=RATE)
    return np.concatenate(list(blocks), axis=1)


def test_members_sound_during_the_pre_roll_of_a_group_with_moves():
    clicks = np.zeros((1, 3 * RATE))
    clicks[0, RATE + RATE // 2] = 1.0
    ringing = (LedgerEntry(id="r", move=Bell(hz=200.0, gain_db=24.0, q=40.0)),)
    mix = Mix(tracks=(Track(id="t", audio_id="t", group_id="g"),), groups=(Group(id="g", ledger=ringing),))
    sources = {"t": ArraySource(clicks)}
    start = 2 * RATE - 24_000 + 12_800  # 0.27 s behind the click, in its ring
    late, whole = rendered(mix, sources, start, 2 * RATE), rendered(mix, sources, 0, 2 * RATE)[:, start:]
    assert np.max(np.abs(whole)) > 1e-4
    assert np.max(np.abs(late - whole)) < 1e-3 * np.max(np.abs(whole))


@pytest.mark.parametrize(("muted", "acts"), [(False, True), (True, False)])
def test_a_track_of_a_muted_group_is_no_key(muted, acts):
    noise = 0.2 * np.random.default_rng(2).standard_normal((2, 1, RATE))
    duck = DynamicBell(hz=1_000.0, q=0.5, threshold_db=-60.0, depth_db=-12.0, listens_to="key")
    tracks = (
        Track(id="t", audio_id="t", ledger=(LedgerEntry(id="d", move=duck),)),
        Track(id="key", audio_id="key", group_id="g"),
    )
    mix = Mix(tracks=tracks, groups=(Group(id="g", mute=muted),), heard_ids=("t",))
    sources = {"t": ArraySource(noise[0]), "key": ArraySource(noise[1])}
    plain = mix.model_copy(update={"tracks": (tracks[0].model_copy(update={"ledger": ()}), tracks[1])})
    change = rendered(mix, sources, 0, RATE) - rendered(plain, sources, 0, RATE)
    assert (np.sqrt(np.mean(change[:, RATE // 2 :] ** 2)) > 0.01) == acts
