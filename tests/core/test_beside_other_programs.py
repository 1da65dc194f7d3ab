"""The whole way of the sound beside general-purpose programs and textbook figures: ffmpeg, scipy, played notes,
rooms."""

import itertools
import subprocess
from pathlib import Path

import numpy as np
import pytest
import scipy.signal
import soundfile

from mivlo.core.engine.mix import Mix
from mivlo.core.engine.render import render_mix, render_moves
from mivlo.core.engine.source import ArraySource
from mivlo.core.finder.measures import ring_time_s
from mivlo.core.finder.pitch_line import pitch_line
from mivlo.core.model import LedgerEntry, Track
from mivlo.core.moves.bell import Bell
from mivlo.core.moves.dynamic_bell import DynamicBell
from mivlo.core.moves.low_cut import LowCut
from mivlo.core.moves.low_shelf import LowShelf
from mivlo.core.spectra.average import AXIS_HZ, band_levels
from mivlo.core.spectra.pictures import Tile, spectrogram_tile

from .phrases import RATE, phrase


def ffmpeg(folder: Path, *arguments: str) -> np.ndarray:
    """Return (channels, frames) of what ffmpeg makes."""
    command = ["ffmpeg", "-v", "error", "-y", *arguments, "-c:a", "pcm_f64le", "out.wav"]
    subprocess.run(command, cwd=folder, check=True)
    return soundfile.read(folder / "out.wav", always_2d=True)[0].T


def test_a_small_mix_is_the_sum_of_what_ffmpeg_makes_of_its_tracks(tmp_path):
    # Shapes below 1 kHz, where every design is the analogue one (references 1.3); faders and a polarity besides.
    random = np.random.default_rng(5)
    low = scipy.signal.butter(4, 900, fs=RATE, output="sos")
    cases = {
        "a": (
            (Bell(hz=431, gain_db=-9, q=8), LowCut(hz=60, slope_db_per_octave=12)), {"gain_db": -3.0},
            "equalizer=f=431:t=q:w=8:g=-9:r=f64,highpass=f=60:t=q:w=0.70711:r=f64,volume=-3dB:precision=double",
        ),
        "b": ((LowShelf(hz=150, gain_db=-4, q=0.7071),), {}, "lowshelf=f=150:t=q:w=0.7071:g=-4:r=f64"),
        "c": (
            (Bell(hz=200, gain_db=5, q=1.2),), {"polarity_flipped": True, "gain_db": 6.0},
            "equalizer=f=200:t=q:w=1.2:g=5:r=f64,volume=6dB:precision=double,aeval=-val(0)|-val(1)",
        ),
    }  # fmt: skip
    tracks, strips, theirs = {}, [], np.zeros((2, 3 * RATE))
    for name, (moves, fields, graph) in cases.items():
        tracks[name] = scipy.signal.sosfilt(low, 0.1 * random.standard_normal((2, 3 * RATE)))
        soundfile.write(tmp_path / "in.wav", tracks[name].T, RATE, subtype="DOUBLE")
        theirs += ffmpeg(tmp_path, "-i", "in.wav", "-af", graph)
        ledger = tuple(LedgerEntry(id=f"{name}{number}", move=move) for number, move in enumerate(moves))
        strips.append(Track(id=name, audio_id=name, ledger=ledger, **fields))
    mix = Mix(tracks=tuple(strips))
    blocks = render_mix(mix, lambda name: ArraySource(tracks[name]), start=0, end=3 * RATE, sample_rate_hz=RATE)
    ours = np.concatenate(list(blocks), axis=1)
    assert 20 * np.log10(np.std(theirs - ours) / np.std(theirs)) < -75.0


def test_a_dynamic_bell_turns_a_steady_sine_down_as_ffmpegs_compressor_does(tmp_path):
    # references 6.4: threshold -20 dB, ratio 4, hard knee; -15, -10 and -3 dB in give -18.75, -17.5 and -15.75 out.
    seconds = np.arange(3 * RATE) / RATE
    figures = "threshold=0.1:ratio=4:knee=1:detection=peak:attack=1:release=9000"
    move = DynamicBell(hz=1_000, q=1.0, threshold_db=-20.0, ratio=4.0, knee_db=0.0, depth_db=-24.0, detection="peak")
    for level_db, expected_db in ((-30.0, -30.0), (-15.0, -18.75), (-10.0, -17.5), (-3.0, -15.75)):
        x = 10 ** (level_db / 20) * np.sin(2 * np.pi * 1_000 * seconds)
        soundfile.write(tmp_path / "in.wav", x, RATE, subtype="DOUBLE")
        theirs = ffmpeg(tmp_path, "-i", "in.wav", "-af", f"acompressor={figures}")
        ours = np.concatenate(list(render_moves(ArraySource(x[None]), [move], sample_rate_hz=RATE)), axis=1)
        read_db = [20 * np.log10(np.sqrt(2 * np.mean(one[0, 2 * RATE :] ** 2))) for one in (ours, theirs)]
        assert read_db[0] == pytest.approx(expected_db, abs=0.1)
        assert read_db[0] == pytest.approx(read_db[1], abs=0.1)


@pytest.mark.parametrize("program", [40, 56, 65, 73])
def test_the_pitch_line_of_sampled_instruments_is_on_the_notes_that_were_played(program):
    samples, played = phrase(program, (60, 64, 67, 62, 65, 69, 71, 67))
    line = pitch_line(ArraySource(samples), start=0, end=samples.shape[1], sample_rate_hz=RATE)
    assert line.one_voice
    for start_s, end_s, hz in played:
        within = (line.times_s > start_s + 0.12) & (line.times_s < end_s - 0.05) & np.isfinite(line.hz)
        assert within.any()
        assert abs(1_200 * np.log2(np.median(line.hz[within]) / hz)) < 25  # the bank itself is off by up to 15 cents


def test_the_modes_of_a_room_are_told_apart_and_ring_as_long_as_they_do():
    # references 5.7: c/2 sqrt(sum (n/L)^2) for 5 x 4 x 2.5 m, c 343 m/s; those that stand alone by a tenth of an
    # octave.
    sides, c = np.array([5.0, 4.0, 2.5]), 343.0
    orders = np.array(list(itertools.product(range(4), repeat=3))[1:])
    modes = np.sort(c / 2 * np.sqrt(np.sum((orders / sides) ** 2, axis=1)))[:12]
    assert modes == pytest.approx(
        [34.30, 42.88, 54.91, 68.60, 68.60, 76.70, 80.90, 80.90, 85.75, 87.87, 92.36, 97.02], abs=0.01
    )
    alone = [34.30, 42.875, 54.906, 68.60]
    t60_s = 1.1
    t = np.arange(8 * RATE) / RATE
    x = sum(np.sin(2 * np.pi * hz * (t % 1.6)) * 10 ** (-3 * (t % 1.6) / t60_s) for hz in alone)[None] * 0.1
    level = band_levels(x, sample_rate_hz=RATE)
    for hz in alone:
        near = np.abs(np.log2(AXIS_HZ / hz)) < 0.05
        assert abs(np.log2(AXIS_HZ[near][level[near].argmax()] / hz)) < 0.03
        # Told apart: what lies a tenth of an octave above is well below.
        between = np.abs(np.log2(AXIS_HZ / hz) - 0.1) < 0.02
        assert level[near].max() - level[between].max() > 6.0
        q = np.pi * hz * t60_s / np.log(1_000)  # references 5.8
        assert ring_time_s(ArraySource(x), hz, q, start=0, end=x.shape[1], sample_rate_hz=RATE) == pytest.approx(
            t60_s, rel=0.15
        )


def test_a_picture_follows_a_chirp_as_scipys_transform_does():
    seconds = np.arange(4 * RATE) / RATE
    x = 0.25 * scipy.signal.chirp(seconds, 200, 4.0, 6_000, method="logarithmic")
    tile = Tile(time_zoom=3, column=0, freq_zoom=0, row=0)
    level = spectrogram_tile(ArraySource(x[None]), tile, sample_rate_hz=RATE)
    hz, times, z = scipy.signal.stft(x, RATE, "hann", 2_048, 2_048 - tile.hop_frames)
    for at_s in (0.7, 1.5, 2.3, 3.1, 3.7):
        true_hz = 200 * (6_000 / 200) ** (at_s / 4.0)
        ours = tile.rows_hz()[level[:, round(at_s * RATE / tile.hop_frames)].argmax()]
        theirs = hz[np.abs(z[:, np.argmin(np.abs(times - at_s))]).argmax()]
        assert abs(np.log2(ours / true_hz)) < 0.04
        assert abs(theirs - true_hz) < RATE / 2_048
        assert level[:, round(at_s * RATE / tile.hop_frames)].max() == pytest.approx(-12.04, abs=3.0)


def test_pictures_tell_a_tenth_of_an_octave_apart_at_60_hz_and_place_a_click_at_6_khz():
    seconds = np.arange(8 * RATE) / RATE
    pair = ArraySource(0.1 * (np.sin(2 * np.pi * 60 * seconds) + np.sin(2 * np.pi * 60 * 2**0.1 * seconds))[None])
    n, at_s = np.arange(-400, 400), 5.0
    click = np.zeros((1, 8 * RATE))
    click[0, round(at_s * RATE) + n] = 0.3 * np.cos(2 * np.pi * 6_000 * n / RATE) * np.exp(-((n / 60) ** 2))
    thump = np.where(seconds % 1.0 < 0.1, 0.3 * np.sin(2 * np.pi * 60 * seconds), 0.0)
    for time_zoom in (1, 2, 3):  # as somebody sees who looks at moments or at seconds
        column = round(at_s * RATE) // (512 * (64 << time_zoom))
        tile = Tile(time_zoom=time_zoom, column=column, freq_zoom=2, row=0)
        hz = tile.rows_hz()
        level = spectrogram_tile(pair, tile, sample_rate_hz=RATE).mean(axis=1)
        tops = [level[np.abs(np.log2(hz / tone)) < 0.03].max() for tone in (60, 60 * 2**0.1)]
        assert tops == pytest.approx([-20.0, -20.0], abs=2.5)  # the shorter window beats
        assert min(tops) - level[(hz > 60) & (hz < 64)].min() > 4.0
        tile = Tile(time_zoom=time_zoom, column=column, freq_zoom=0, row=0)
        level = spectrogram_tile(ArraySource(click), tile, sample_rate_hz=RATE)
        told = (column * 512 + level[np.abs(tile.rows_hz() - 6_000).argmin()].argmax() + 0.5) * tile.hop_frames / RATE
        assert abs(told - at_s) < 0.005
    # A low stroke stays short: it is gone a third of a second after it was there.
    tile = Tile(time_zoom=3, column=0, freq_zoom=0, row=0)
    level = spectrogram_tile(ArraySource(thump[None]), tile, sample_rate_hz=RATE)[np.abs(tile.rows_hz() - 60).argmin()]
    during, after, before = (level[round(moment_s * RATE / tile.hop_frames)] for moment_s in (2.05, 2.4, 1.75))
    assert during - max(after, before) > 30.0
