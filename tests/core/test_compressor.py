"""The compressor against the published static curve, and what it promises of time, copies and both channels.

Static curve: D. Giannoulis, M. Massberg, J. Reiss, JAES 60(6), 2012, eq. 4, written down here once more.
"""

import numpy as np
import pytest

from mivlo.core import kernels
from mivlo.core.kernels import SUBSTEP_FRAMES
from mivlo.core.moves.compressor import Compressor
from mivlo.core.processors.stage import Context

from .planted import run

RATE = 48_000


def curve_db(level_db, threshold_db, ratio, knee_db, range_db=np.inf):
    """Return the gain, by the formula."""
    over = level_db - threshold_db
    inside = (1.0 / ratio - 1.0) * (over + knee_db / 2.0) ** 2 / max(2.0 * knee_db, 1e-9)
    out = np.where(2 * over < -knee_db, 0.0, np.where(2 * np.abs(over) <= knee_db, inside, (1 / ratio - 1) * over))
    return np.maximum(out, -range_db)


def stage_of(move: Compressor, n_channels: int = 1):
    return move.stage("c", on=True, keepers=(), sample_rate_hz=RATE).make(n_channels, RATE)


def sine(peak_db: float, hz: float = 1_000.0, seconds: float = 1.0) -> np.ndarray:
    n = round(seconds * RATE) // 64 * 64
    return 10 ** (peak_db / 20) * np.sin(2 * np.pi * hz * np.arange(n) / RATE)[None]


@pytest.mark.parametrize(("ratio", "knee_db"), [(2.0, 0.0), (4.0, 6.0), (20.0, 12.0)])
@pytest.mark.parametrize("detection", ["peak", "rms"])
def test_steady_sines_are_turned_down_by_the_published_curve(ratio, knee_db, detection):
    move = Compressor(threshold_db=-30, ratio=ratio, knee_db=knee_db, range_db=25, detection=detection)
    for peak_db in (-50.0, -33.0, -30.0, -27.5, -12.0, 0.0):
        x = sine(peak_db)
        y = stage_of(move).process(x.copy(), Context(0))
        gain_db = 20 * np.log10(np.std(y[0, RATE // 2 :]) / np.std(x[0, RATE // 2 :]))
        level_db = peak_db - (3.01 if detection == "rms" else 0.0)
        assert gain_db == pytest.approx(curve_db(level_db, -30, ratio, knee_db, 25), abs=0.05)


def test_attack_and_release_reach_63_2_percent_in_their_time():
    move = Compressor(threshold_db=-40, ratio=4, attack_ms=20, release_ms=200, knee_db=0)
    figures = stage_of(move)._gain_figures
    steps_per_s = RATE / SUBSTEP_FRAMES
    level_db = np.concatenate([np.full(round(steps_per_s), -10.0), np.full(2 * round(steps_per_s), -90.0)])
    gains_db, state = np.empty(len(level_db)), np.zeros(1)
    kernels.dynamic_band.gain_steps(level_db, np.zeros(len(level_db), dtype=bool), figures, state, gains_db)
    full_db = curve_db(-10.0, -40, 4, 0)
    n = round(steps_per_s)
    attack_s = (np.argmax(gains_db < 0.632 * full_db) + 1) / steps_per_s
    release_s = (np.argmax(gains_db[n:] > 0.368 * full_db) + 1) / steps_per_s
    assert attack_s == pytest.approx(0.020, rel=0.05)
    assert release_s == pytest.approx(0.200, rel=0.05)


def test_at_ratio_1_the_copy_beside_is_the_track_scaled_to_the_bit():
    x = 0.1 * np.random.default_rng(1).standard_normal((2, 9_600))
    y = run(x, Compressor(ratio=1.0, placing="beside", beside_db=-7.0, makeup_db=2.0, lookahead_ms=7.0))
    assert np.array_equal(y, x + x * (10 ** (2.0 / 20) * 10 ** (-7.0 / 20)))


def test_below_its_threshold_and_off_it_passes_every_bit():
    x = 0.01 * np.random.default_rng(2).standard_normal((2, 9_600))
    assert np.array_equal(run(x, Compressor(threshold_db=0.0, lookahead_ms=20.0)), x)
    loud = 20.0 * x
    assert np.array_equal(run(loud, Compressor(threshold_db=-60.0, makeup_db=9.0, on=False)), loud)
    assert np.array_equal(run(loud, Compressor(threshold_db=-60.0, placing="beside", on=False)), loud)


def test_both_channels_get_the_same_gain_and_the_copy_keeps_to_its_band():
    x = np.concatenate([sine(-6.0, 400.0), sine(-40.0, 9_000.0)])
    y = run(x, Compressor(threshold_db=-40, ratio=8))
    gains = [np.std(y[c, RATE // 2 :]) / np.std(x[c, RATE // 2 :]) for c in range(2)]
    assert gains[0] == pytest.approx(gains[1], rel=1e-6)
    assert gains[0] < 0.1
    beside = run(x, Compressor(threshold_db=-40, ratio=8, makeup_db=20, placing="beside", beside_high_hz=1_500)) - x
    assert np.std(beside[0]) / np.std(x[0]) > 0.05
    within, beyond = (np.std(beside[c]) / np.std(x[c]) for c in range(2))
    assert 20 * np.log10(beyond / within) == pytest.approx(-31.0, abs=4.0)  # 12 dB an octave, 2.6 octaves up


def test_what_it_listens_from_decides_what_counts():
    x = sine(-6.0, 50.0)
    assert np.std(run(x, Compressor(threshold_db=-40, ratio=8))) < 0.2 * np.std(x)
    assert np.std(run(x, Compressor(threshold_db=-20, ratio=8, key_low_cut_hz=400))) > 0.99 * np.std(x)


def test_a_key_of_another_track_drives_it_and_its_trace_is_its_gain():
    stage = stage_of(Compressor(threshold_db=-40, ratio=4, knee_db=0, listens_to="k", attack_ms=1))
    key = sine(-10.0)
    stage.process(sine(-60.0), Context(0, lambda *asked: key[:, asked[2] : asked[2] + asked[3]]))
    trace = stage.trace()
    assert trace.gain_db[-1] == pytest.approx(curve_db(-13.01, -40, 4, 0), abs=0.05)
    assert trace.level_db[-1] == pytest.approx(-13.01, abs=0.05)


def test_a_beside_copy_needs_a_band():
    with pytest.raises(ValueError, match=r"1\.25 times"):
        Compressor(placing="beside", beside_low_hz=2_000, beside_high_hz=2_100)
