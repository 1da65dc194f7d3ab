"""The pitch line on a sung voice beside its score, on sampled instruments, and on something that speaks.

Nothing it is compared with is its own: the demo's score, the notes that a sampler was told to play, and YIN, written
down here from A. de Cheveigné, H. Kawahara, JASA 111(4), 2002 (from memory).
"""

import sys
from pathlib import Path

import numpy as np
import pytest
import soundfile
from scipy.signal import lfilter, resample_poly

from mivlo.core.cellar import low_end_of
from mivlo.core.engine.source import ArraySource
from mivlo.core.finder.pitch_line import PitchLine, lowest_pitch_hz, pitch_line

from .phrases import RATE, phrase

DEMO = Path(__file__).parents[2] / "demo"
MELODY = (60, 64, 67, 62, 65, 69, 71, 67, 64, 60, 62, 66, 70, 68)
CHORDS = ((60, 64, 67), (57, 60, 64), (62, 65, 69), (55, 59, 62), (60, 65, 69), (59, 62, 67))
ONE_VOICE = {40: 7, 42: -12, 53: 0, 56: 0, 57: -12, 65: 0, 68: 7, 71: 0, 73: 12, 33: -24, 11: 0, 24: 0}


def line_of(x: np.ndarray) -> PitchLine:
    x = np.atleast_2d(x)
    return pitch_line(ArraySource(x), start=0, end=x.shape[1], sample_rate_hz=RATE)


def compared(line: PitchLine, hz: np.ndarray) -> tuple[float, float, float]:
    """Return the part of the points with a known pitch (NaN elsewhere) that have one in the line, and of those the part
    within 50 cents and the part about an octave off."""
    known = np.isfinite(hz)
    both = known & np.isfinite(line.hz)
    cents = np.abs(1_200.0 * np.log2(line.hz[both] / hz[both]))
    return float(both.sum() / known.sum()), float(np.mean(cents < 50)), float(np.mean(np.abs(cents - 1_200) < 100))


def notes_at(times_s: np.ndarray, notes, margin_s: float) -> np.ndarray:
    hz = np.full(len(times_s), np.nan)
    for start_s, end_s, note_hz in notes:
        hz[(times_s > start_s + margin_s) & (times_s < end_s - margin_s)] = note_hz
    return hz


def spoken(seconds: float = 8.0) -> tuple[np.ndarray, np.ndarray]:
    """Return something that speaks, and its pitch: words that glide by up to 1.6 octaves a second through three
    formants, with hisses between."""
    random, n = np.random.default_rng(5), round(seconds * RATE)
    t = np.arange(n) / RATE
    hz = 120.0 * 2.0 ** (0.3 * np.sin(2 * np.pi * 0.7 * t) + 0.01 * np.sin(2 * np.pi * 4.3 * t))
    voiced = np.clip(6.0 * (np.sin(2 * np.pi * 1.4 * t) + 0.55), 0.0, 1.0)
    phase = np.cumsum(hz) / RATE
    pulses = np.diff(np.floor(phase), prepend=0.0) * voiced
    x = pulses
    for formant_hz, width_hz in ((600.0, 90.0), (1_400.0, 110.0), (2_600.0, 160.0)):
        radius = np.exp(-np.pi * width_hz / RATE)
        x = lfilter([1.0 - radius], [1.0, -2.0 * radius * np.cos(2 * np.pi * formant_hz / RATE), radius**2], x)
    x = x / np.abs(x).max() + random.standard_normal(n) * np.where(voiced < 0.1, 0.05, 0.002)
    return 0.3 * x, np.where(voiced > 0.9, hz, np.nan)


def yin(x: np.ndarray, times_s: np.ndarray) -> np.ndarray:
    """Return (points,) the pitch by YIN, NaN where its difference function has no clear dip; the middle of what is
    compared, two windows some milliseconds apart, is at the time."""
    window, most, found = round(0.03 * RATE), round(RATE / 60), []
    for at in np.round(times_s * RATE).astype(int) - round(0.0175 * RATE):
        part = x[max(at, 0) : max(at, 0) + window + most]
        if len(part) < window + most or np.mean(part**2) < 1e-6:
            found.append(np.nan)
            continue
        square = np.concatenate([[0.0], np.cumsum(part**2)])
        lags = np.arange(most)
        products = np.correlate(part, part[:window], "valid")[:most]
        apart = square[window] + square[window + lags] - square[lags] - 2.0 * products
        normal = np.ones(most)
        normal[1:] = apart[1:] * lags[1:] / np.maximum(np.cumsum(apart[1:]), 1e-12)
        dips = np.flatnonzero((normal[1:-1] < 0.15) & (normal[1:-1] <= normal[2:]) & (normal[1:-1] < normal[:-2])) + 1
        found.append(RATE / dips[0] if len(dips) and dips[0] > 60 else np.nan)
    return np.array(found)


def test_the_demos_voice_is_on_its_score():
    sys.path.insert(0, str(DEMO))
    from score import voice_line

    path = next(path for path in (DEMO / "tracks").iterdir() if "voice" in path.stem.lower())
    x, rate = soundfile.read(path, always_2d=True)
    assert rate == RATE
    line = line_of(x.T)
    score = [(one.start_s, one.start_s + one.length_s, 440.0 * 2.0 ** ((one.midi - 69) / 12.0)) for one in voice_line()]
    covered, within, octave = compared(line, notes_at(line.times_s, score, 0.1))
    assert line.one_voice
    assert covered >= 0.85
    assert within >= 0.92
    assert octave <= 0.03
    lowest_hz = min(hz for _, _, hz in score)
    assert abs(12.0 * np.log2(lowest_pitch_hz(line) / lowest_hz)) < 2.0
    low = low_end_of(ArraySource(x.T), start_frame=0, role="lead voice", end_frame=len(x), sample_rate_hz=RATE)
    assert abs(12.0 * np.log2(low.lowest_note_hz / lowest_hz)) < 2.0


def test_sampled_instruments_are_on_the_notes_they_were_told_to_play():
    told = []
    for program, up in ONE_VOICE.items():
        x, notes = phrase(program, tuple(note + up for note in MELODY))
        line = line_of(x)
        told.append(compared(line, notes_at(line.times_s, notes, 0.03)))
        if program not in (24, 11):  # what rings on beside the next note has no one pitch
            assert abs(12.0 * np.log2(lowest_pitch_hz(line) / min(hz for _, _, hz in notes))) < 2.0, program
    covered, within, octave = np.mean(told, axis=0)
    assert covered >= 0.85
    assert within >= 0.92
    assert octave <= 0.03


def test_one_voice_is_told_from_chords():
    right = [
        line_of(phrase(program, tuple(note + up for note in MELODY))[0]).one_voice for program, up in ONE_VOICE.items()
    ]
    for program in (0, 4, 6, 16, 19, 21, 24, 25, 27, 48, 52, 61):
        voices = [phrase(program, notes, length_s=0.8)[0] for notes in zip(*CHORDS, strict=True)]
        n = min(voice.shape[1] for voice in voices)
        right.append(not line_of(sum(voice[:, :n] for voice in voices) / 3.0).one_voice)
    assert np.mean(right) >= 0.9


def test_a_noisy_room_in_the_pauses_does_not_make_one_voice_none():
    x, _ = spoken()
    pauses = 0.1 * np.std(x) * np.random.default_rng(6).standard_normal(3 * len(x))  # 20 dB below it
    assert line_of(np.concatenate([x, pauses])).one_voice


def test_what_speaks_has_the_pitch_that_it_was_given_and_that_yin_reads():
    x, hz = spoken()
    line = line_of(x)
    assert line.one_voice
    covered, within, octave = compared(line, np.interp(line.times_s, np.arange(len(hz)) / RATE, hz))
    assert (covered >= 0.85, within >= 0.92, octave <= 0.03) == (True, True, True), (covered, within, octave)
    _, within, octave = compared(line, yin(x, line.times_s))
    assert within >= 0.92
    assert octave <= 0.03
    assert np.isnan(line_of(np.zeros(RATE)).hz).all()
    assert lowest_pitch_hz(line_of(np.random.default_rng(2).standard_normal(2 * RATE) * 0.1)) is None


@pytest.mark.parametrize(("files", "covers", "agrees"), [
    ("pocketsphinx/test/data/librivox/*.wav", 0.85, 0.92),
    ("asterisk/sounds/en_US_f_Allison/*.wav", 0.85, 0.92),
    ("pocketsphinx/test/data/*.raw", 0.85, 0.8),  # in a noisy room
    ("pocketsphinx/test/data/cards/*.wav", 0.85, 0.8),
])  # fmt: skip
def test_recorded_speakers_are_one_voice_and_have_the_pitch_that_yin_reads(files: str, covers: float, agrees: float):
    """Recordings of people, from packages of Debian's that `./mivlo test` installs."""
    parts, n = [], 0
    for file in sorted(Path("/usr/share").glob(files)):
        raw = {"samplerate": 16_000, "channels": 1, "subtype": "PCM_16"} if file.suffix == ".raw" else {}
        x, rate = soundfile.read(file, **raw)
        parts += [resample_poly(x, RATE // rate, 1), np.zeros(RATE // 5)]
        n += len(parts[-2])
        if n > 20 * RATE:
            break
    assert parts, f"no recordings in /usr/share/{files}: ./mivlo test installs them"
    x = np.concatenate(parts)
    line = line_of(x)
    assert line.one_voice
    read_hz = yin(x, line.times_s)
    covered, within, octave = compared(line, read_hz)
    assert abs(12.0 * np.log2(lowest_pitch_hz(line) / np.nanpercentile(read_hz, 5.0))) < 2.0
    assert (covered >= covers, within >= agrees, octave <= 0.03) == (True, True, True), (covered, within, octave)


@pytest.mark.parametrize("start_s", [0.0, 1.5])
def test_a_stretch_is_told_in_seconds_of_the_whole(start_s):
    x = spoken()[0][None]
    part = pitch_line(ArraySource(x), start=round(start_s * RATE), end=3 * RATE, sample_rate_hz=RATE)
    assert part.times_s[0] == pytest.approx(start_s)
    assert part.times_s[-1] <= 3.0 + 1e-9
