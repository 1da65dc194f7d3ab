"""Phrases made from formulas, for fitting only: struck bodies, tones of overtones and swelling noise, as no bank has
them.

What the finder meets need not sound like a sampled instrument; physics with known answers is among what it is tested
on.
"""

import numpy as np
from scipy.special import jn_zeros

from finder.phrases import RATE, Instrument, Phrase
from mivlo.core.units import Array

__all__ = ["BUILT", "draw_bodies", "draw_built"]

BUILT = "built from formulas"
STEPS = (-7, -5, -4, -2, -1, 1, 2, 3, 4, 5, 7)
# Modes over the lowest: of a circular membrane (zeros of Bessel functions), and of a free bar ((2n+1)² over 3.011²),
# from memory.
MEMBRANE = np.sort(np.concatenate([jn_zeros(order, 4) for order in range(8)]))[:16] / jn_zeros(0, 1)[0]
BAR = np.array([3.011, 5.0, 7.0, 9.0, 11.0, 13.0]) ** 2 / 3.011**2
HIGHEST_MODE_HZ = 14_000.0


def draw_built(random: np.random.Generator, *, seconds: float) -> Phrase:
    """Return a phrase of one channel that no bank has."""
    manner = ("struck", "struck", "tones", "tones", "noise")[int(random.integers(5))]
    n = round(seconds * RATE)
    return _recorded({"struck": _struck, "tones": _tones, "noise": _noise}[manner](random, n), manner, random)


def draw_bodies(random: np.random.Generator, *, seconds: float) -> Phrase:
    """Return strokes of few bodies, plainer than any drum: few modes or many that all die away alike, hit evenly or
    not."""
    n = round(seconds * RATE)
    lowest_hz = np.exp(random.uniform(np.log(70), np.log(600), size=int(random.choice((1, 1, 1, 2)))))
    ratios = (MEMBRANE, BAR, np.sort(1.0 + 9.0 * random.random(8)))[int(random.integers(3))]
    ratios = ratios[: int(random.choice((1, 2, 3, 8, 16)))]
    longest_s = float(np.exp(random.uniform(np.log(0.08), np.log(1.2))))
    slope, click, falls = random.uniform(0.3, 1.5), random.uniform(0.0, 0.3), random.choice((0.0, 0.0, 0.5, 1.0))
    alike_db, out = float(random.choice((0.0, 3.0, 14.0))), np.zeros(n)
    even, beat_s = random.random() < 0.6, float(random.uniform(0.2, 0.7))
    at = 0.1
    while at < seconds - 0.2:
        start, lowest = round(at * RATE), float(random.choice(lowest_hz))
        t = np.arange(min(round(1.6 * longest_s * RATE), n - start)) / RATE
        sound = _stroke(
            random, t, lowest * ratios, click=click, longest_s=longest_s, falls=falls, slope=slope, uneven=0.3
        )
        out[start : start + len(t)] += sound * 10.0 ** (-alike_db * random.random() / 20.0)
        at += beat_s * (1.0 if even else float(random.choice((0.5, 1, 1, 2))))
    return _recorded(out, "bodies", random)


def _recorded(x: Array, manner: str, random: np.random.Generator) -> Phrase:
    """Return a made sound as a phrase: at some level, over some floor of noise."""
    n = len(x)
    floor_db = float(random.uniform(-140.0, -60.0))
    x = x / max(float(np.max(np.abs(x))), 1e-9) * 10.0 ** (random.uniform(-14, -1) / 20.0)
    x = x + 10.0 ** (floor_db / 20.0) * random.standard_normal(n)
    return Phrase(BUILT, Instrument(manner, "other"), x[None].astype(np.float32))


def _struck(random: np.random.Generator, n: int) -> Array:
    """Return strokes of one or a few bodies, each with modes that die away."""
    out = np.zeros(n)
    ratios = (MEMBRANE, BAR, np.sort(1.0 + 9.0 * random.random(8)))[int(random.integers(3))]
    ratios = ratios * 2.0 ** (random.normal(0, 0.02, len(ratios)))
    bodies = [float(np.exp(random.uniform(np.log(60), np.log(500)))) for _ in range(int(random.integers(1, 4)))]
    slope, click, falls = random.uniform(0.5, 1.5), random.uniform(0, 0.5), random.uniform(0.0, 1.0)
    longest_s = float(np.exp(random.uniform(np.log(0.1), np.log(1.5))))
    for start, velocity in _beats(random, n):
        t = np.arange(min(round(1.6 * longest_s * RATE), n - start)) / RATE
        lowest = bodies[int(random.integers(len(bodies)))]
        sound = _stroke(
            random, t, lowest * ratios, click=click, longest_s=longest_s, falls=falls, slope=slope, uneven=0.4
        )
        out[start : start + len(t)] += velocity * sound
    return out


def _stroke(
    random: np.random.Generator,
    t: Array,
    modes_hz: Array,
    *,
    click: float,
    longest_s: float,
    falls: float,
    slope: float,
    uneven: float,
) -> Array:
    """Return one stroke: a click, and modes of which each is softer, and dies away sooner, than the one below it."""
    sound = click * random.standard_normal(len(t)) * np.exp(-t / 0.01)
    for number, hz in enumerate(modes_hz):
        if hz < HIGHEST_MODE_HZ:
            t60_s = longest_s / (1.0 + number) ** falls
            tone = np.sin(2 * np.pi * hz * t + random.uniform(0, 6)) * 10.0 ** (-3.0 * t / t60_s)
            sound = sound + random.uniform(1.0 - uneven, 1.0 + uneven) * tone / (1.0 + number) ** slope
    return sound


def _tones(random: np.random.Generator, n: int) -> Array:
    """Return notes of overtones under one outline, which stays while they move: a few voices, or one."""
    out = np.zeros(n)
    corner_hz, slope_db = float(np.exp(random.uniform(np.log(400), np.log(4_000)))), random.uniform(6, 24)
    formants = [(float(np.exp(random.uniform(np.log(300), np.log(4_000)))), random.uniform(0, 8)) for _ in range(3)]
    stretch, vibrato = random.choice((0.0, 0.0, 2e-4)), random.choice((0.0, 0.0, 0.004))
    odd, voices, decays = random.random() < 0.2, int(random.choice((1, 1, 3))), random.random() < 0.5
    note = int(random.integers(40, 76))
    for start, velocity in _beats(random, n):
        note = int(np.clip(note + random.choice(STEPS), 36, 84))
        t = np.arange(min(round(random.uniform(0.2, 0.8) * RATE), n - start)) / RATE
        shape = np.minimum(t / random.uniform(0.005, 0.06), 1.0) * np.minimum((t[-1] - t) / 0.03, 1.0) if len(t) else t
        shape = shape * (np.exp(-t / 0.3) if decays else 1.0)
        for step in random.choice((0, 3, 4, 7, 12), size=voices, replace=False):
            f0 = 440.0 * 2.0 ** ((note + int(step) - 69) / 12.0)
            phase = 2 * np.pi * np.cumsum(f0 * (1.0 + vibrato * np.sin(2 * np.pi * 5.5 * t))) / RATE
            for number in range(1, 40, 2 if odd else 1):
                at_hz = number * f0 * np.sqrt(1.0 + stretch * number**2)
                if at_hz > HIGHEST_MODE_HZ:
                    break
                level_db = -slope_db * max(np.log2(at_hz / corner_hz), 0.0) - 4.0 * np.log2(number)
                level_db += sum(db * np.exp(-0.5 * (np.log2(at_hz / hz) / 0.25) ** 2) for hz, db in formants)
                out[start : start + len(t)] += velocity * 10.0 ** (level_db / 20.0) * shape * np.sin(at_hz / f0 * phase)
    return out


def _noise(random: np.random.Generator, n: int) -> Array:
    """Return coloured noise, even or in swells."""
    spectrum = np.fft.rfft(random.standard_normal(n))
    hz = np.maximum(np.fft.rfftfreq(n, 1 / RATE), 20.0)
    tilt = random.uniform(-9.0, 0.0)
    x = np.fft.irfft(spectrum * 10.0 ** (tilt * np.log2(hz / 1_000.0) / 20.0), n)
    swell = 1.0 + random.uniform(0.0, 0.95) * np.sin(2 * np.pi * np.arange(n) / RATE * random.uniform(0.2, 2.0))
    return np.asarray(x * swell)


def _beats(random: np.random.Generator, n: int) -> list[tuple[int, float]]:
    """Return (start in frames, how hard) of strokes or notes."""
    found, at, beat = [], 0.05, random.uniform(0.18, 0.6)
    steady = random.random() < 0.3
    while at < n / RATE - 0.3:
        found.append((round(at * RATE), float(10.0 ** (random.uniform(-14, 0) / 20.0))))
        at += beat * (1.0 if steady else float(random.choice((0.5, 1, 1, 2))))
    return found
