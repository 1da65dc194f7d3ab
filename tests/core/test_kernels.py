"""The compiled loops against plain NumPy and scipy, and against themselves uncompiled."""

import numpy as np
import pytest
import scipy.signal
from scipy.ndimage import maximum_filter1d

from mivlo.core import kernels
from mivlo.core.channel import lane_of, put_lane_back
from mivlo.core.filters.biquad import frequency_response
from mivlo.core.kernels import CONTROL_FRAMES, SUBSTEP_FRAMES, dynamic_band, plane_frames, svf_chain
from mivlo.core.moves.bell import Bell
from mivlo.core.moves.dynamic_low_cut import DynamicLowCut
from mivlo.core.processors.chain import Chain, KeyedSection
from mivlo.core.processors.dynamic import TABLE_STEP_DB
from mivlo.core.processors.plane import PlaneFigures, _bins
from mivlo.core.spectra.windows import halved_rate

RATE = 48_000.0
N = 64 * CONTROL_FRAMES


def noise(channels: int = 2, seed: int = 1) -> np.ndarray:
    return np.random.default_rng(seed).standard_normal((channels, N))


@pytest.mark.parametrize("channel", ["both", "left", "right", "mid", "side"])
def test_a_chain_acts_on_its_channel_as_scipy_filters_that_channel(channel):
    section = Bell(hz=900, gain_db=7, q=2).sections(RATE)[0]
    x = noise()
    got = x.copy()
    Chain(2, RATE, [KeyedSection("k", section, channel=channel)]).process(got)
    sos = [[section.b0, section.b1, section.b2, 1.0, section.a1, section.a2]]
    wanted = x.copy()
    before = lane_of(wanted, channel)
    put_lane_back(wanted, channel, before.copy(), scipy.signal.sosfilt(sos, before, axis=1))
    assert np.max(np.abs(got - wanted)) < 1e-11
    alone = x[:1].copy()
    Chain(1, RATE, [KeyedSection("k", section, channel=channel)]).process(alone)
    if channel == "side":
        assert np.array_equal(alone, x[:1])  # one channel alone has no side
    else:
        assert np.max(np.abs(alone - scipy.signal.sosfilt(sos, x[:1], axis=1))) < 1e-11


def test_lanes_are_put_back_as_they_were_taken():
    x = noise()
    for channel in ("both", "left", "right", "mid", "side"):
        y = x.copy()
        lane = lane_of(y, channel).copy()
        put_lane_back(y, channel, lane, lane)
        assert np.array_equal(y, x)
        put_lane_back(y, channel, lane, np.zeros_like(lane))
        assert np.max(np.abs(lane_of(y, channel))) < 1e-12  # what was taken out of it is out


@pytest.mark.parametrize("stride", [1, 2])
def test_levels_are_those_of_a_plain_filter(stride):
    b, a = scipy.signal.iirpeak(1_000, 3.0, fs=RATE / stride)
    x, less = noise(), noise(seed=2)
    n = N // SUBSTEP_FRAMES
    peaks, powers = np.empty(n), np.empty(n)
    coefs = np.array([*b, a[1], a[2]])
    dynamic_band.level_steps(x, less, stride, coefs, np.zeros((2, 2)), peaks, powers)
    y = scipy.signal.lfilter(b, a, (x - less)[:, ::stride], axis=1).reshape(2, n, SUBSTEP_FRAMES // stride)
    assert np.allclose(peaks, np.max(y**2, axis=(0, 2)), rtol=1e-9)
    assert np.allclose(powers, np.max(np.mean(y**2, axis=2), axis=0), rtol=1e-9)


def test_the_small_loops_are_what_their_names_say():
    values = np.random.default_rng(4).random(300)
    out = np.empty(300 - 9)
    dynamic_band.highest_of_last(values, 10, out)
    assert np.array_equal(out, maximum_filter1d(values, 10, origin=4)[9:])
    smoothed, state = values.copy(), np.array([0.3])
    dynamic_band.smoothed(smoothed, 0.2, state)
    wanted = scipy.signal.lfilter([0.2], [1.0, -0.8], values, zi=[0.8 * 0.3])[0]
    assert np.allclose(smoothed, wanted)
    assert state[0] == smoothed[-1]
    x, treated = noise(), noise(seed=5)
    gains_db = np.full(N // SUBSTEP_FRAMES + 1, -6.0)
    blended = x.copy()
    dynamic_band.blend(blended, treated, gains_db, 0.1, np.full(4, 10 ** (-12 / 20) - 1.0))
    weight = (10 ** (-6 / 20) - 1.0) / (10 ** (-12 / 20) - 1.0)
    assert np.allclose(blended, x + weight * (treated - x))


def test_a_table_of_gains_at_rest_filters_as_its_section_and_glides_without_a_jump():
    move = DynamicLowCut(hz=300, slope_db_per_octave=24, depth_db=-12)
    table = move.shape(RATE)
    x = noise(1)
    for gain_db in (-12.0, -5.0):
        y, state = x.copy(), np.zeros((table.values.shape[1], 2, 2))
        dynamic_band.run_table(
            y, np.full(N // SUBSTEP_FRAMES + 1, gain_db), table.lowest_db, TABLE_STEP_DB, table.values, state
        )
        sos = [[s.b0, s.b1, s.b2, 1.0, s.a1, s.a2] for s in move.sections_at(gain_db, RATE)]
        assert np.max(np.abs(y - scipy.signal.sosfilt(sos, x, axis=1))) < 1e-9
    open_again, state = x.copy(), np.zeros((table.values.shape[1], 2, 2))
    dynamic_band.run_table(
        open_again, np.zeros(N // SUBSTEP_FRAMES + 1), table.lowest_db, TABLE_STEP_DB, table.values, state
    )
    assert np.array_equal(open_again, x)
    # An octave below its frequency the low cut takes away what its gain says.
    for gain_db in (-3.0, -12.0):
        h = frequency_response(move.sections_at(gain_db, RATE), np.array([150.0]), sample_rate_hz=RATE)
        assert 20 * np.log10(abs(h[0])) == pytest.approx(gain_db, abs=0.02)


def test_bursts_and_strokes_are_told_from_what_rises_slowly():
    steps_per_s, back, ahead = 1_500.0, 68, 69

    def holds(onset_ms: float, trigger: str) -> np.ndarray:
        t = (np.arange(900) - 300) / steps_per_s * 1e3
        rise = 0.5 - 0.5 * np.cos(np.pi * np.clip(t / onset_ms, 0.0, 1.0))
        power = np.maximum((0.3 * rise) ** 2, 1e-12)
        held = np.zeros(len(power) - back - ahead, dtype=np.bool_)
        if trigger == "burst":
            dynamic_band.burst_holds(power, back, ahead, 1e-3, 7.94, 0.3, 0.9, 22, 21, 270, 0, held)
        else:
            dynamic_band.stroke_holds(power, back, ahead, 18, 3.98, 1e-4, 90, 0, held)
        return held

    assert not holds(6.0, "burst").all()  # held everywhere but in the burst
    assert holds(60.0, "burst").all()
    assert holds(6.0, "stroke").any()


def test_the_kernels_say_the_same_uncompiled():
    figures = np.array([-30.0, 0.75, 6.0, -9.0, 0.0, 0.3, 0.05])
    levels = -60.0 + 50.0 * np.random.default_rng(6).random(400)
    held = np.zeros(400, dtype=np.bool_)
    held[100:150] = True
    results = []
    for function in (dynamic_band.gain_steps, dynamic_band.gain_steps.py_func):
        gains, state = np.empty(400), np.zeros(1)
        function(levels, held, figures, state, gains)
        results.append(gains)
    assert np.allclose(*results)
    power = np.random.default_rng(7).random((3, 1_025)).astype(np.float32)
    bins = _bins(
        PlaneFigures(1.0, 0.9, 600.0, 10_000.0, 25.0, True, "both", (), ((900.0, 0.0), (1_000.0, 6.0), (1_200.0, 0.0))),
        2_048,
        RATE,
    )
    means, wanted = np.empty_like(power), np.empty_like(power)
    plane_frames.band_means(power, bins.low, bins.high, means)
    for k in range(1_025):
        wanted[:, k] = power[:, bins.low[k] : bins.high[k] + 1].mean(axis=1)
    assert np.allclose(means, wanted, rtol=1e-4)
    cuts = []
    levels_db = (10 * np.log10(means)).astype(np.float32)
    for function in (plane_frames.frame_cuts, plane_frames.frame_cuts.py_func):
        out = np.empty_like(power)
        function(
            power, levels_db, bins.octave, bins.gap_low, bins.gap_high, bins.trend_low, bins.trend_high, bins.tolerance,
            bins.edge, bins.learned, bins.learned / 2.0, np.ones(3), bins.first, bins.last, 1.0, 0.5,
            np.zeros((5, 1_025)), out,
        )  # fmt: skip
        cuts.append(out)
    assert np.allclose(*cuts, atol=1e-3)
    assert cuts[0].min() >= 0.0


@pytest.mark.parametrize("n", [1, 46, 4_096, 9_001])
def test_a_rate_is_halved_as_scipy_filters_and_leaves_out_every_other_sample(n):
    x = np.random.default_rng(8).standard_normal((2, n)).astype(np.float32)
    k = np.arange(47) - 23
    taps = np.sinc(k / 2.0) * np.kaiser(47, 7.0)
    wanted = scipy.signal.convolve(x.astype(float), (taps / taps.sum())[None])[:, 23 : 23 + n : 2][:, : n // 2]
    assert halved_rate(x).shape == wanted.shape
    assert np.allclose(halved_rate(x), wanted, atol=1e-5)  # the middle tap is a half, and 2e-6 less here


def test_the_strongest_bins_of_bands_are_those_that_numpy_finds():
    random = np.random.default_rng(9)
    spectra = (random.standard_normal((5, 200)) + 1j * random.standard_normal((5, 200))).astype(np.complex64)
    edges, out = np.array([10, 11, 40, 41, 160]), np.ones((5, 8), dtype=np.float32)
    kernels.band_peaks.add_band_peaks(spectra, np.float32(0.5), edges, np.array([2, 3, 5, 7]), out)
    wanted = 1.0 + 0.5 * np.maximum.reduceat(np.abs(spectra[:, :160]) ** 2, edges[:-1], axis=1)
    assert np.allclose(out[:, [2, 3, 5, 7]], wanted, rtol=1e-5)
    assert np.all(out[:, [0, 1, 4, 6]] == 1.0)


def test_the_powers_of_two_bands_and_the_middle_of_the_upper_one_are_plain_sums():
    random = np.random.default_rng(10)
    spectra = (random.standard_normal((6, 100)) + 1j * random.standard_normal((6, 100))).astype(np.complex64)
    hz, out, moment = np.arange(100) * 50.0, np.empty((2, 6), dtype=np.float32), np.empty(6)
    kernels.burst_bands.band_powers(spectra, np.float32(8.0), hz, (3, 20), (40, 90), out, moment)
    power = np.abs(spectra.astype(complex)) ** 2 / 8.0
    assert np.allclose(out, [power[:, 3:20].sum(axis=1), power[:, 40:90].sum(axis=1)], rtol=1e-5)
    assert np.allclose(moment, (power * hz)[:, 40:90].sum(axis=1), rtol=1e-5)


def test_what_lies_around_a_place_is_summed_without_the_place():
    x = np.random.default_rng(11).standard_normal((3, 60)).astype(np.float32)
    out = np.empty_like(x)
    kernels.ring_sums.ring_sums(x, 7, 2, out)
    ring = np.r_[np.ones(5), np.zeros(5), np.ones(5)]
    assert np.allclose(out, [np.convolve(row, ring, "same") for row in x], atol=1e-5)


def test_a_series_is_as_strong_as_its_lines_and_explains_each_but_by_the_others():
    offsets, weights = np.array([0, 12, 19]), np.array([1.0, 0.8, 0.5], dtype=np.float32)
    lines = np.zeros((2, 50), dtype=np.float32)
    lines[0, [10, 22, 29]] = 6.0, 5.0, 4.0  # a note on 10; the other frame is empty
    salience, explained = np.empty_like(lines), np.empty_like(lines)
    kernels.overtone_series.sum_series(lines, offsets, weights, salience, explained)
    assert salience[0].argmax() == 10
    assert salience[0, 10] == pytest.approx(6.0 + 0.8 * 5.0 + 0.5 * 4.0)
    assert explained[0, [10, 22, 29]] == pytest.approx([6.0, 8.0, 10.0])  # 12 less what each gives itself
    assert not salience[1].any()
    assert not explained[1].any()


def test_a_decay_ends_where_the_level_rises_again_and_a_top_within_it_starts_none():
    level = np.array([0.0, -3.0, -6.0, -5.0, -9.0, -12.0, -8.0, -20.0, -30.0])
    found = kernels.decays.lowest_after(level, np.array([0, 3, 6]), 2.0)
    assert found.tolist() == [[0, 5], [6, 8]]


def test_the_step_of_the_chain_is_the_grid_of_the_dynamic_steps():
    assert svf_chain.CONTROL_FRAMES % SUBSTEP_FRAMES == 0
