"""Sampled instruments with equalizers and lines of known shape laid over them, and how far a sound is from its twin."""

from functools import lru_cache

import numpy as np
from scipy.signal import lfilter

from mivlo.core.engine.render import render_moves
from mivlo.core.engine.source import ArraySource
from mivlo.core.filters.biquad import frequency_response
from mivlo.core.filters.matched import plain_bell
from mivlo.core.finder.learning import learn
from mivlo.core.finder.place_curve import place_curve
from mivlo.core.moves.plane import Plane

from .phrases import RATE, phrase

Bell = tuple[float, float, float]  # hz, gain_db, q
MELODY = (60, 64, 67, 62, 65, 69, 71, 67, 64, 60, 62, 66, 70, 68, 61, 63)
PROGRAMS = (0, 4, 6, 11, 16, 21, 22, 24, 25, 27, 29, 40, 42, 48, 52, 56, 57, 65, 71, 73)


@lru_cache(maxsize=len(PROGRAMS))
def played(program: int) -> np.ndarray:
    samples = phrase(program, MELODY)[0].mean(axis=0, keepdims=True)
    return 0.25 * samples / np.abs(samples).max()


def through(x: np.ndarray, bells: list[Bell]) -> np.ndarray:
    for hz, gain_db, q in bells:
        s = plain_bell(hz, gain_db, q, sample_rate_hz=RATE)
        x = lfilter([s.b0, s.b1, s.b2], [1.0, s.a1, s.a2], x, axis=1)
    return x


def bells_db(bells: list[Bell], freqs_hz: np.ndarray) -> np.ndarray:
    sections = [plain_bell(hz, gain_db, q, sample_rate_hz=RATE) for hz, gain_db, q in bells]
    return 20.0 * np.log10(np.abs(frequency_response(sections, freqs_hz, sample_rate_hz=RATE)))


def drawn(seed: tuple[int, ...], low_hz: float, high_hz: float, gains_db, qs) -> Bell:
    random = np.random.default_rng(seed)
    hz, q = (float(np.exp(random.uniform(*np.log(limits)))) for limits in ((low_hz, high_hz), qs))
    return hz, float(random.uniform(*gains_db)) * float(random.choice((-1, 1)) if gains_db[0] < 7 else 1), q


def curve_of(x: np.ndarray):
    return place_curve(ArraySource(x), start=0, end=x.shape[1], sample_rate_hz=RATE)


def learned(x: np.ndarray, **figures) -> Plane:
    found = learn(ArraySource(x), start=0, end=x.shape[1], sample_rate_hz=RATE, low_hz=600.0, high_hz=10_000.0)
    return found.in_plane(Plane(**figures))


def levels_db(x: np.ndarray) -> np.ndarray:
    """Return (frames, bins) of windows of 4096 frames every 1024, the channels' powers averaged."""
    windows = np.lib.stride_tricks.sliding_window_view(x, 4_096, axis=1)[:, ::1_024] * np.hanning(4_096)
    return 10.0 * np.log10(np.mean(np.abs(np.fft.rfft(windows, axis=2)) ** 2, axis=0) + 1e-12)


FREQS_HZ = np.maximum(np.fft.rfftfreq(4_096, 1 / RATE), 1.0)


def away_db(x: np.ndarray, twin: np.ndarray, part: np.ndarray) -> float:
    """Return the mean distance of x from its twin in part of the bins, where the twin is within 60 dB of its top."""
    one, other = levels_db(x), levels_db(twin)
    heard = other > other.max() - 60.0
    return float(np.abs(one - other)[:, part][heard[:, part]].mean())


def run(x: np.ndarray, *moves) -> np.ndarray:
    return np.concatenate(list(render_moves(ArraySource(x), moves, sample_rate_hz=RATE)), axis=1)
