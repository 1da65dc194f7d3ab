"""Loudness and peaks against EBU's cases and two other programs; spectra and pictures against what was planted."""

import io
import re
import subprocess
from pathlib import Path

import numpy as np
import pyloudnorm
import pytest
import soundfile
from PIL import Image
from scipy.signal import butter, resample_poly, sosfilt

from mivlo.core.engine.source import ArraySource
from mivlo.core.filters.biquad import frequency_response
from mivlo.core.k_weighting import k_weighting
from mivlo.core.loudness import integrated_loudness, true_peak_db
from mivlo.core.moves.bell import Bell
from mivlo.core.spectra.average import AXIS_HZ, band_levels, far_outline, near_outline, stand_out
from mivlo.core.spectra.pictures import (
    TILE_COLUMNS,
    TILE_ROWS,
    Tile,
    difference_png,
    ink_png,
    spectrogram_tile,
    waveform_peaks,
)
from mivlo.core.spectra.smoothing import OCTAVES, smoothed
from mivlo.core.spectra.windows import halved_rate

RATE = 48_000


def sine(hz: float, db: float, seconds: float, phase_deg: float = 0.0) -> np.ndarray:
    t = np.arange(round(seconds * RATE)) / RATE
    return 10 ** (db / 20) * np.sin(2 * np.pi * hz * t + np.radians(phase_deg))


def test_the_k_curve():
    # ITU-R BS.1770-4 (2015), tables 1 and 2, from memory; responses computed from them.
    sos = k_weighting(RATE)
    assert sos[0][:3] == pytest.approx([1.53512485958697, -2.69169618940638, 1.19839281085285], abs=1e-9)
    assert sos[1][4:] == pytest.approx([-1.99004745483398, 0.99007225036621], abs=1e-9)


@pytest.mark.parametrize(
    ("parts", "expected"),
    [  # EBU Tech 3341 cases 1 to 5, from memory: 1 kHz in both channels, (dBFS of the sine's peak, seconds)
        ([(-23, 20)], -23.0),
        ([(-33, 20)], -33.0),
        ([(-36, 10), (-23, 60), (-36, 10)], -23.0),
        ([(-72, 10), (-36, 10), (-23, 60), (-36, 10), (-72, 10)], -23.0),
        ([(-26, 20), (-20, 20.1), (-26, 20)], -23.0),
    ],
)
def test_integrated_loudness_of_the_ebu_cases(parts, expected):
    mono = np.concatenate([sine(1_000, db, seconds) for db, seconds in parts])
    assert integrated_loudness(np.stack([mono, mono]), sample_rate_hz=RATE) == pytest.approx(expected, abs=0.1)


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
def test_loudness_agrees_with_another_library(rate):
    x = np.random.default_rng(1).standard_normal((2, 8 * rate)) * np.repeat([0.01, 0.2, 0.0, 0.1], 2 * rate)
    other = pyloudnorm.Meter(rate, filter_class="DeMan").integrated_loudness(x.T)
    assert integrated_loudness(x, sample_rate_hz=rate) == pytest.approx(other, abs=0.03)


def test_what_has_no_loudness_has_none():
    assert integrated_loudness(np.zeros((2, RATE)), sample_rate_hz=RATE) is None
    assert integrated_loudness(np.ones((1, 18_000)), sample_rate_hz=RATE) is None  # under 400 ms
    assert true_peak_db(np.zeros((1, RATE))) is None


@pytest.mark.parametrize(
    ("divisor", "phase_deg", "amplitude", "expected"),
    [(4, 0, 0.5, -6.02), (4, 45, 0.5, -6.02), (6, 60, 0.5, -6.02), (8, 67.5, 0.5, -6.02), (4, 45, 1.41, 2.98)],
)
def test_true_peak_of_the_ebu_cases(divisor, phase_deg, amplitude, expected):
    # EBU Tech 3341 cases 15 to 19, from memory; +0.2 / -0.4 dB. The ends are tapered: an edge rings higher.
    x = sine(RATE / divisor, 20 * np.log10(amplitude), 1.0, phase_deg)
    fade = np.minimum(1.0, np.minimum(np.arange(RATE), np.arange(RATE)[::-1]) / 4_800)
    assert -0.4 <= true_peak_db((x * fade)[None, :]) - expected <= 0.2


def test_loudness_and_peak_agree_with_ffmpeg(tmp_path: Path):
    x = np.clip(0.3 * np.random.default_rng(2).standard_normal((6 * RATE, 2)), -0.99, 0.99)
    soundfile.write(tmp_path / "n.wav", x, RATE, subtype="DOUBLE")
    command = ["ffmpeg", "-nostats", "-i", "n.wav", "-af", "ebur128=peak=true", "-f", "null", "-"]
    told = subprocess.run(command, cwd=tmp_path, capture_output=True, text=True, check=True).stderr.split("Summary:")[
        -1
    ]
    theirs = {name: float(re.search(name + r":\s+(-?[\d.]+)", told)[1]) for name in ("I", "Peak")}
    assert integrated_loudness(x.T, sample_rate_hz=RATE) == pytest.approx(theirs["I"], abs=0.1)
    assert true_peak_db(x.T) == pytest.approx(theirs["Peak"], abs=0.2)


# The near outline is for lines: what is wider (Q 5 and less), or narrower than 8 Hz or so, reads low (60 Hz, Q 8 by
# 1.6 dB).
@pytest.mark.parametrize(
    ("hz", "gain_db", "q"),
    [(431.0, 9.0, 12.0), (738.0, 12.0, 20.0), (2_937.0, 6.0, 16.0), (120.0, 9.0, 10.0)],
)
def test_a_planted_bell_reads_its_gain(hz, gain_db, q):
    # Definitions: a bell planted at +G reads G within 1.5 dB. Planted in noise that falls by 3 dB an octave.
    n = 1 << 22  # 87 s: in shorter stretches the noise itself scatters by as much as is asked here
    freqs_hz = np.fft.rfftfreq(n, 1 / RATE)
    noise = np.random.default_rng(5).standard_normal(n // 2 + 1) + 1j * np.random.default_rng(6).standard_normal(
        n // 2 + 1
    )
    noise /= np.sqrt(np.maximum(freqs_hz, 20.0))
    planted = [s for move in (Bell(hz=hz, gain_db=gain_db, q=q),) for s in move.sections(RATE)]
    h = frequency_response(planted, np.maximum(freqs_hz, 1.0), sample_rate_hz=RATE)
    x = np.fft.irfft(noise * h)
    level = band_levels((0.1 * x / np.std(x))[None, :], sample_rate_hz=RATE)
    near = np.abs(np.log2(AXIS_HZ / hz)) < 1 / 24
    assert np.max(stand_out(level)[near]) == pytest.approx(gain_db, abs=1.5)


def test_a_full_scale_sine_reads_zero_at_its_frequency():
    for hz in (60.0, 431.0, 5_000.0):
        level = band_levels(sine(hz, 0.0, 4.0)[None, :], sample_rate_hz=RATE)
        assert np.max(level) == pytest.approx(0.0, abs=1.5)  # a Hann window's scallop, 1.42 dB (Harris 1978)
        assert abs(np.log2(AXIS_HZ[np.argmax(level)] / hz)) < 1 / 48


def test_the_outline_is_flat_for_what_is_flat():
    assert near_outline(np.full(len(AXIS_HZ), -40.0)) == pytest.approx(-40.0)


def test_a_wide_hump_stands_out_of_the_far_outline_alone():
    # definitions.md: against a one-ERB smoothing a hump of +8 dB and Q 0.9 stands 0.1 dB out.
    h = np.abs(
        np.array([complex(v) for v in Bell(hz=400, gain_db=8, q=0.9).response(np.minimum(AXIS_HZ, 19_000), 48_000)])
    )
    level = -6.0 * np.log2(AXIS_HZ / 400) + 20 * np.log10(h)
    at = np.argmin(np.abs(AXIS_HZ - 400))
    assert (level - far_outline(level))[at] == pytest.approx(8.0, abs=1.5)
    assert (level - near_outline(level))[at] < 4.0


def test_smoothing_means_the_power_over_its_width_and_the_ear_over_an_erb():
    line_db = np.full(len(AXIS_HZ), -140.0)
    for at in (100, 240, 400):
        line = line_db.copy()
        line[at] = 0.0
        for how, octaves in OCTAVES.items():  # the power of a line, spread over that width: 48 places an octave
            drawn = smoothed(line, how)
            assert drawn.max() == pytest.approx(-10 * np.log10(48 * octaves), abs=0.01)
            there = AXIS_HZ[drawn > -100] / AXIS_HZ[at]
            assert np.log2(there.max() / there.min()) == pytest.approx(octaves, abs=1 / 48)
        # What an ear's filter lets through of noise is as much as a rectangle of its ERB would: Glasberg and Moore,
        # Hearing Research 47, 1990: 24.7 (4.37 F + 1) Hz, F in kHz (from memory).
        flat, only = 10 ** (smoothed(np.zeros(len(AXIS_HZ)), "ear")[at] / 10), 10 ** (smoothed(line, "ear")[at] / 10)
        band_hz = AXIS_HZ[at] * (2 ** (0.5 / 48) - 2 ** (-0.5 / 48))
        assert band_hz * flat / only == pytest.approx(24.7 * (4.37 * AXIS_HZ[at] / 1_000 + 1), rel=0.03)
    noise = band_levels(np.random.default_rng(5).standard_normal((1, 4 * RATE)), sample_rate_hz=RATE)
    rough = [np.std(np.diff(smoothed(noise, how)[200:440])) for how in ("none", "1/24", "1/6", "1/3")]
    assert rough == sorted(rough, reverse=True)
    assert np.array_equal(smoothed(noise, "none"), noise)


def test_a_picture_of_a_difference_has_ink_where_something_was_taken_away():
    before = np.full((TILE_ROWS, TILE_COLUMNS), -40.0)
    after = before.copy()
    after[100:120] -= 12.0
    ink = np.asarray(Image.open(io.BytesIO(difference_png(before, after))))[::-1, :, 1]
    assert ink[100:120].min() == 255
    assert ink[:100].max() == ink[120:].max() == 0


def test_a_picture_shows_tone_and_time_where_they_are():
    x = np.zeros(4 * RATE)
    x[RATE : 2 * RATE] = sine(1_000, -6.0, 1.0)
    tile = Tile(time_zoom=3, column=0, freq_zoom=0, row=0)
    level = spectrogram_tile(ArraySource(x[None, :]), tile, sample_rate_hz=RATE)
    assert level.shape == (TILE_ROWS, TILE_COLUMNS)
    column_s = tile.hop_frames / RATE
    row = np.argmax(level[:, int(1.5 / column_s)])
    assert abs(np.log2(tile.rows_hz()[row] / 1_000)) < 0.03
    assert level[row, int(1.5 / column_s)] == pytest.approx(-6.0, abs=1.5)
    assert level[row, int(0.8 / column_s)] < -60.0
    part = spectrogram_tile(ArraySource(x[None, :]), Tile(3, 0, 2, 2), sample_rate_hz=RATE)
    rows = Tile(3, 0, 2, 2).rows_hz()
    assert abs(np.log2(rows[np.argmax(part[:, int(1.5 / column_s)])] / 1_000)) < 0.015
    picture = Image.open(io.BytesIO(ink_png(level)))
    assert picture.size == (TILE_COLUMNS, TILE_ROWS)
    assert picture.mode == "LA"


def test_waveform_peaks():
    peaks = waveform_peaks(ArraySource(sine(100, 0.0, 1.0)[None, :]), start=0, end=RATE, n_columns=50)
    assert peaks[0] == pytest.approx(-1.0, abs=1e-3)
    assert peaks[1] == pytest.approx(1.0, abs=1e-3)


def test_half_the_rate_is_that_of_another_program_and_nothing_folds_back():
    rate, n = 48_000, 1 << 15
    t = np.arange(n) / rate

    def level_db(hz: float) -> float:
        half = halved_rate(np.sin(2 * np.pi * hz * t)[None].astype(np.float32))[0, 500:-500]
        return float(20 * np.log10(np.sqrt(2) * np.std(half)))

    assert max(abs(level_db(hz)) for hz in (100, 3_000, 6_000, 9_000, 10_000)) < 0.05
    assert max(level_db(hz) for hz in (14_900, 16_000, 18_000, 20_000, 23_000)) < -70.0
    low = sosfilt(butter(8, 6_000, fs=rate, output="sos"), np.random.default_rng(1).standard_normal((1, n)))
    ours, theirs = halved_rate(low.astype(np.float32))[0], resample_poly(low[0], 1, 2, window=("kaiser", 9.0))
    shifts = [np.std(ours[500:-500] - theirs[500 + lag : len(theirs) - 500 + lag]) for lag in (-1, 0, 1)]
    assert min(shifts) < 1e-3 * np.std(theirs)
