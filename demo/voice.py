"""A synthesised voice: glottal pulses through formants that move, with sibilants and plosives as planted faults."""

import numpy as np
from scipy.signal import butter, lfilter, sosfilt
from score import Syllable

from mivlo.core.units import Array, db_to_gain

__all__ = ["sing"]

FORMANTS = {
    "a": ((760, 90), (1250, 110), (2600, 160), (3300, 200)),
    "e": ((520, 80), (1850, 110), (2550, 150), (3400, 200)),
    "i": ((330, 60), (2250, 120), (2950, 160), (3600, 220)),
    "o": ((480, 80), (880, 100), (2450, 160), (3250, 200)),
}
LEVELS = (1.0, 0.55, 0.28, 0.2)
SIBILANT_DB, PLOSIVE_DB = -9.0, -1.0


def sing(
    line: list[Syllable], *, seconds: float, rate_hz: int, random: np.random.Generator
) -> tuple[Array, list[dict[str, object]]]:
    """Return (1, frames) and the planted events (kind and times)."""
    out = np.zeros(round(seconds * rate_hz))
    events: list[dict[str, object]] = []
    for syllable in line:
        consonant, vowel = syllable.text[:-1], syllable.text[-1]
        start = syllable.start_s + random.normal(0, 0.01)
        lead = {"s": 0.11, "p": 0.035, "b": 0.03}.get(consonant, 0.0)
        tone = _tone(syllable, vowel, rate_hz, random)
        _add(out, tone, start + lead * 0.6, rate_hz)
        if consonant == "s":
            force = db_to_gain(SIBILANT_DB + random.normal(0, 1.5))
            _add(out, force * _sibilant(rate_hz, random), start - 0.02, rate_hz)
            events.append({"kind": "sibilance", "start_s": round(start - 0.02, 3), "end_s": round(start + 0.11, 3)})
        elif consonant in ("p", "b"):
            strength = PLOSIVE_DB if consonant == "p" else PLOSIVE_DB - 5
            _add(out, db_to_gain(strength + random.normal(0, 1)) * _plosive(rate_hz, random), start - 0.01, rate_hz)
            events.append({"kind": "plosive", "start_s": round(start - 0.01, 3), "end_s": round(start + 0.08, 3)})
    breath = sosfilt(butter(2, [400, 6_000], "bandpass", fs=rate_hz, output="sos"), random.standard_normal(len(out)))
    return (out + breath * db_to_gain(-68))[None], events


def _add(out: Array, x: Array, at_s: float, rate_hz: int) -> None:
    start = max(round(at_s * rate_hz), 0)
    count = min(len(x), len(out) - start)
    out[start : start + count] += x[:count]


def _tone(syllable: Syllable, vowel: str, rate_hz: int, random: np.random.Generator) -> Array:
    """Return one sung vowel: slides into its pitch, vibrato grows, level swells, pulses jitter."""
    n = round(syllable.length_s * rate_hz)
    t = np.arange(n) / rate_hz
    vibrato = (
        26 * np.clip((t - 0.22) / 0.3, 0, 1) * np.sin(2 * np.pi * random.uniform(5.1, 5.8) * t + random.uniform(0, 6))
    )
    slide = -90 * random.uniform(0.4, 1.2) * np.exp(-t / 0.035)
    wander = 7 * lfilter([1 - 0.9997], [1, -0.9997], random.standard_normal(n)) * 60
    cents = vibrato + slide + wander + random.normal(0, 5)
    hz = 440 * 2 ** ((syllable.midi - 69) / 12) * 2 ** (cents / 1200)
    phase = np.cumsum(hz / rate_hz)
    period = phase % 1.0
    opening = np.where(period < 0.6, np.sin(np.pi * period / 0.6) ** 2 * period, 0.0)
    source = np.diff(opening, prepend=0.0) * 60 + 0.012 * random.standard_normal(n) * (period < 0.6)
    source = lfilter([1, -0.55], [1], source)
    voice = np.zeros(n)
    for (formant_hz, width), level in zip(FORMANTS[vowel], LEVELS, strict=True):
        centre = formant_hz * random.uniform(0.97, 1.03)
        radius, w = np.exp(-np.pi * width / rate_hz), 2 * np.pi * centre / rate_hz
        voice += level * lfilter([1 - radius, 0, -(1 - radius)], [1, -2 * radius * np.cos(w), radius**2], source)
    swell = np.clip(t / 0.06, 0, 1) * np.clip((syllable.length_s - t) / 0.09, 0, 1)
    swell *= 0.82 + 0.25 * np.sin(np.pi * t / syllable.length_s)
    voice *= swell
    return np.asarray(voice / (np.max(np.abs(voice)) + 1e-9) * random.uniform(0.55, 0.75))


def _sibilant(rate_hz: int, random: np.random.Generator) -> Array:
    n = round(0.13 * rate_hz)
    noise = sosfilt(butter(2, [5_200, 9_500], "bandpass", fs=rate_hz, output="sos"), random.standard_normal(n))
    return np.asarray(noise / np.max(np.abs(noise)) * np.hanning(n) ** 0.6)


def _plosive(rate_hz: int, random: np.random.Generator) -> Array:
    """A gust on the microphone: a very low, short swing and a click of air."""
    n = round(0.09 * rate_hz)
    t = np.arange(n) / rate_hz
    gust = np.sin(2 * np.pi * random.uniform(38, 62) * t) * np.exp(-t / 0.022) * np.clip(t / 0.004, 0, 1)
    air = sosfilt(butter(1, [800, 3_000], "bandpass", fs=rate_hz, output="sos"), random.standard_normal(n)) * np.exp(
        -t / 0.007
    )
    return np.asarray(gust + 0.05 * air)
