"""Conversions between the units of the field: decibels, octaves, Q, notes."""

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

__all__ = [
    "NOTE_NAMES",
    "Array",
    "Floats",
    "db_to_gain",
    "gain_to_db",
    "hz_text",
    "hz_to_note",
    "octaves_to_q",
    "power_to_db",
    "q_to_octaves",
    "time_text",
]

Array = NDArray[np.float64]
Floats = NDArray[np.floating[Any]]  # where single precision will do

NOTE_NAMES = ("C", "C#", "D", "D#", "E", "F", "F#", "G", "G#", "A", "A#", "B")
A4_HZ = 440.0  # ISO 16:1975
A4_MIDI = 69
SILENCE_POWER = 1e-30  # -300 dB: a floor that keeps logarithms finite, far below any 32-bit file


def db_to_gain(level_db: float) -> float:
    """Return the linear gain of a level in dB."""
    return float(10.0 ** (level_db / 20.0))


def gain_to_db(gain: float) -> float:
    """Return the level in dB of a linear gain (floored at -300 dB)."""
    return 20.0 * math.log10(max(abs(gain), math.sqrt(SILENCE_POWER)))


def power_to_db(power: Array) -> Array:
    """Return 10·lg of an array of powers, floored at -300 dB."""
    return np.asarray(10.0 * np.log10(np.maximum(power, SILENCE_POWER)))


def q_to_octaves(q: float) -> float:
    """Return the bandwidth in octaves of a band of quality q: N = (2/ln 2)·asinh(1/(2Q))."""
    return 2.0 / math.log(2.0) * math.asinh(1.0 / (2.0 * q))


def octaves_to_q(width_octaves: float) -> float:
    """Return the Q of a band of a width in octaves: the inverse of `q_to_octaves`."""
    return 1.0 / (2.0 * math.sinh(math.log(2.0) / 2.0 * width_octaves))


def hz_to_note(hz: float) -> tuple[str, float]:
    """Return the nearest equal-tempered note's name ("F#5") and the deviation in cents (-50..50)."""
    midi = A4_MIDI + 12.0 * math.log2(hz / A4_HZ)
    nearest = round(midi)
    return f"{NOTE_NAMES[nearest % 12]}{nearest // 12 - 1}", 100.0 * (midi - nearest)


def hz_text(hz: float) -> str:
    """Return a frequency as it stands in a sentence. Raises nothing. Source: ours."""
    return f"{hz / 1_000:.1f} kHz" if hz >= 1_000 else f"{hz:.0f} Hz"


def time_text(seconds: float) -> str:
    """Return a time of a session as it stands in a sentence, such as 1:02.5. Raises nothing. Source: ours."""
    minutes, rest = divmod(round(seconds, 1), 60.0)
    return f"{int(minutes)}:{rest:04.1f}"
