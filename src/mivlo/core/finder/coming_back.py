"""What stand-ins bring back: a suspect's own band behind them, beside the loudness of the whole."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy.signal import sosfilt

from mivlo.core.engine.source import Source
from mivlo.core.finder.level_map import LevelMap, active_frames, level_map, loud_frames
from mivlo.core.loudness import LoudnessMeter
from mivlo.core.model import Evidence
from mivlo.core.moves.base import slice_bell
from mivlo.core.units import Array

__all__ = ["BACK_FROM_DB", "LEFT_FROM_DB", "Moments", "back_db", "comes_back", "loudness_change_db", "moments_of"]

BACK_FROM_DB, LEFT_FROM_DB = 1.5, 2.0  # how much it must come up, and how much of it must then stand out
BLOCK_FRAMES = 1 << 17
MOST_Q = 60.0
SILENT = 1e-15


@dataclass(frozen=True, slots=True)
class Moments:
    """When a fault was there: (n, 2) first and last frames of a sound, apart and in order."""

    frames: np.ndarray


def comes_back(back: float, excess_db: float) -> bool:
    """Tell whether a fault that is left at an excess comes back by so many dB.

    Raises
    ------
    Nothing.

    Source: our definition; the excess alone does not show it, since a compressor lifts its surroundings too
    """
    return back >= BACK_FROM_DB and excess_db + back >= LEFT_FROM_DB


def moments_of(untreated: Source, evidence: Evidence, *, offset_s: float, sample_rate_hz: float) -> Moments:
    """Return when a fault was there on the untreated track, which starts at `offset_s` of the session.

    Raises
    ------
    Nothing.
    """
    start, end = _frames(evidence.start_s - offset_s, evidence.end_s - offset_s, untreated, sample_rate_hz)
    if evidence.behaviour == "burst" and evidence.times:
        spans = [_frames(a - offset_s, b - offset_s, untreated, sample_rate_hz) for a, b in evidence.times]
        return Moments(np.array(spans))
    levels = level_map(untreated, start=start, end=end, sample_rate_hz=sample_rate_hz)
    chosen = active_frames(levels)
    if evidence.behaviour == "when-loud":
        chosen = loud_frames(levels, chosen)
    return Moments(_spans(levels, chosen, sample_rate_hz))


def _frames(start_s: float, end_s: float, source: Source, rate: float) -> tuple[int, int]:
    start = min(max(round(start_s * rate), 0), source.n_frames)
    return start, min(max(round(end_s * rate), start), source.n_frames)


def _spans(levels: LevelMap, chosen: np.ndarray, rate: float) -> np.ndarray:
    """Return what some frames of a map cover, as far as they hang together."""
    edges = np.flatnonzero(np.diff(chosen) > 1)
    first, last = np.r_[chosen[:1], chosen[edges + 1]], np.r_[chosen[edges], chosen[-1:]]
    half_s = levels.hop_s / 2.0
    spans = np.stack([levels.times_s[first] - half_s, levels.times_s[last] + half_s], axis=1)
    return np.maximum(np.round(spans * rate), 0).astype(np.int64)


def loudness_change_db(off: Source, on: Source, *, sample_rate_hz: float) -> float:
    """Return by how much the second sound is louder, by integrated loudness; 0 where one of them has none.

    Raises
    ------
    Nothing.
    """
    measured = []
    for source in (off, on):
        meter = LoudnessMeter(sample_rate_hz)
        for start in range(0, source.n_frames, BLOCK_FRAMES):
            meter.push(np.asarray(source.read(start, min(BLOCK_FRAMES, source.n_frames - start)), dtype=np.float64))
        measured.append((meter.integrated_lufs(), source.n_channels))
    (before, one), (after, other) = measured
    # Loudness adds channels up; a mono sound is heard from both.
    return 0.0 if before is None or after is None else after - before + 10.0 * float(np.log10(one / other))


def back_db(
    off: Source, on: Source, evidence: Evidence, moments: Moments, *, louder_db: float, offset: int,
    sample_rate_hz: float,
) -> float:  # fmt: skip
    """Return by how much the band of a fault comes up from one sound to another, less what the whole does.

    Parameters
    ----------
    off, on : behind the moves, without and with the stand-ins
    moments : in frames of the untreated sound, which begins at frame `offset` of the second sound
    louder_db : by how much the second sound is louder as a whole

    Raises
    ------
    Nothing.

    Source: definition of "comes back": the bell of the fault as a band-pass, power mean over its moments
    """
    # What a bell adds is a band-pass as narrow as its poles.
    q = min(evidence.q * 10.0 ** (abs(evidence.excess_db) / 40.0), MOST_Q)
    section = slice_bell(evidence.hz, q, sample_rate_hz)[0]
    sos = np.array([[section.b0, section.b1, section.b2, 1.0, section.a1, section.a2]])
    before = _band_power(off, sos, moments.frames)
    after = _band_power(on, sos, moments.frames + offset)
    return float(10.0 * np.log10((after + SILENT) / (before + SILENT)) - louder_db)


def _band_power(source: Source, sos: Array, spans: np.ndarray) -> float:
    """Return the mean power, over channels and spans (n, 2) of frames, of what a band-pass lets through."""
    if not len(spans):
        return 0.0
    total, count, state = 0.0, 0, np.zeros((1, source.n_channels, 2))
    inside = np.zeros(BLOCK_FRAMES, dtype=bool)
    for start in range(0, min(int(spans[-1, 1]), source.n_frames), BLOCK_FRAMES):
        x = np.asarray(source.read(start, min(BLOCK_FRAMES, source.n_frames - start)), dtype=np.float64)
        y, state = sosfilt(sos, x, axis=1, zi=state)
        inside[:] = False
        for first, last in _within(spans, start, start + x.shape[1]):
            inside[first - start : last - start] = True
        chosen = y[:, inside[: x.shape[1]]]
        total += float(np.sum(chosen**2))
        count += chosen.size
    return total / max(count, 1)


def _within(spans: np.ndarray, start: int, end: int) -> Sequence[tuple[int, int]]:
    some = spans[(spans[:, 1] > start) & (spans[:, 0] < end)]
    return [(max(int(first), start), min(int(last), end)) for first, last in some]
