"""Faults planted into phrases for the finder's benchmark, with what they really change."""

from dataclasses import dataclass, replace

import numpy as np
from scipy.signal import butter, lfilter, sosfiltfilt

from mivlo.core.filters.matched import plain_bell
from mivlo.core.units import Array, q_to_octaves

__all__ = ["Fault", "FaultKind", "draw_fault", "draw_shell", "hits", "plant"]

FaultKind = str  # "line", "loud line", "hump", "harsh"
FRAME_S = 0.05
HIT_CENTS, WIDE_OCTAVES = 60.0, 1.0 / 3.0
COUNTS_FROM_DB, COUNTS_FROM_SHARE = (
    3.0,
    0.1,
)  # definitions: a fault counts if it changes its own band that much, that often


@dataclass(frozen=True, slots=True)
class Fault:
    """A planted fault; `mode_s` above 0: a resonator beside the sound that rings so long, else a bell.

    With `under_db` the resonator peaks so far under the sound's own peak, whatever gain that takes.
    """

    kind: FaultKind
    hz: float
    q: float
    gain_db: float
    mode_s: float = 0.0
    counts: bool = False
    under_db: float | None = None

    @property
    def loud_only(self) -> bool:
        """Tell whether it sounds only when the track is loud."""
        return self.kind in ("loud line", "harsh")


def hits(fault: Fault, hz: float) -> bool:
    """Tell whether a frequency is a fault's: within 60 cents or half the width of a line, a third of an octave of a
    wide one."""
    octaves = abs(float(np.log2(hz / fault.hz)))
    return octaves <= (max(HIT_CENTS / 1_200.0, 0.5 * q_to_octaves(fault.q)) if "line" in fault.kind else WIDE_OCTAVES)


def draw_fault(kind: FaultKind, random: np.random.Generator, *, part: str) -> Fault:
    """Return a fault of a kind with figures at random; what is fitted to reaches a little further than what is
    tested."""

    def between(low: float, high: float) -> float:
        return float(np.exp(random.uniform(np.log(low), np.log(high))))

    if kind == "hump":
        return Fault(kind, between(200, 1_200), between(0.7, 2.0), float(random.uniform(4, 9)))
    if kind == "harsh":
        return Fault(kind, between(2_500, 5_000), between(1.0, 3.0), float(random.uniform(6, 12)))
    lowest, highest = (150, 8_000) if part == "test" else (80, 9_000)
    hz, q, gain = between(lowest, highest), between(8, 40), float(random.uniform(6, 15))
    if kind == "loud line" or random.random() < 0.5:
        return Fault(kind, hz, q, gain)
    # As long as the bell of these figures would ring, and up to four times that.
    rings = 2.2 * q * 10.0 ** (gain / 40.0) / hz
    return Fault(kind, hz, q, gain, mode_s=rings * between(1.0, 4.0))


def draw_shell(random: np.random.Generator) -> Fault:
    """Return a mode that outlasts the strokes that set it off, as a drum's shell rings over its skin; for fitting
    only."""
    hz = float(np.exp(random.uniform(np.log(150), np.log(2_500))))
    rings_s = float(np.exp(random.uniform(np.log(0.3), np.log(1.5))))
    return Fault("line", hz, 40.0, 0.0, mode_s=rings_s, under_db=float(random.uniform(-24, -6)))


def plant(samples: Array, fault: Fault, *, rate: int) -> tuple[Array, Fault]:
    """Return (channels, frames) with the fault in it, and the fault with whether it counts."""
    x = np.asarray(samples, dtype=np.float64)
    if fault.mode_s > 0.0:
        pole_q = fault.mode_s * fault.hz / 2.2
        w = 2.0 * np.pi * fault.hz / rate
        radius = np.exp(-w / (2.0 * pole_q))
        b, a = [(1.0 - radius), 0.0, -(1.0 - radius)], [1.0, -2.0 * radius * np.cos(w), radius**2]
        ring = lfilter(b, a, x, axis=1)
        gain = 10.0 ** (fault.gain_db / 20.0) - 1.0
        if fault.under_db is not None:
            gain = 10.0 ** (fault.under_db / 20.0) * np.max(np.abs(x)) / max(float(np.max(np.abs(ring))), 1e-12)
        full = x + gain * ring
    else:
        s = plain_bell(fault.hz, fault.gain_db, fault.q, sample_rate_hz=rate)
        full = lfilter([s.b0, s.b1, s.b2], [1.0, s.a1, s.a2], x, axis=1)
    out = x + (full - x) * _when_loud(x, rate) if fault.loud_only else full
    return out.astype(np.float32), replace(fault, counts=_counts(x, out, fault, rate))


def _when_loud(x: Array, rate: int) -> Array:
    """Return 0..1: up where the level runs above what it usually is while something plays, smoothly."""
    pole = np.exp(-1.0 / (0.03 * rate))
    level = 10.0 * np.log10(lfilter([1.0 - pole], [1.0, -pole], np.mean(x**2, axis=0)) + 1e-12)
    playing = level[level > level.max() - 40.0]
    threshold = float(np.percentile(playing, 60.0))
    part = np.clip((level - threshold + 1.0) / 4.0, 0.0, 1.0)
    return np.asarray(lfilter([1.0 - pole], [1.0, -pole], part))


def _counts(before: Array, after: Array, fault: Fault, rate: int) -> bool:
    half = 0.5 / fault.q
    low, high = fault.hz * (np.sqrt(1 + half**2) - half), fault.hz * (np.sqrt(1 + half**2) + half)
    sos = butter(2, [low, min(high, 0.49 * rate)], "bandpass", fs=rate, output="sos")
    size = round(FRAME_S * rate)

    def power(x: Array) -> Array:
        y = np.mean(sosfiltfilt(sos, x, axis=1) ** 2, axis=0)
        return np.asarray(y[: len(y) // size * size].reshape(-1, size).mean(axis=1))

    was, now = power(before), power(after)
    changed = (10.0 * np.log10((now + 1e-14) / (was + 1e-14)) >= COUNTS_FROM_DB) & (now > 1e-10)
    return bool(np.mean(changed) >= COUNTS_FROM_SHARE)
