"""What stand-ins bring back: a suspect's own band behind them, beside the loudness of the whole."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from mivlo.core.engine.source import Source
from mivlo.core.finder.level_map import LevelMap, active_frames, level_map, loud_frames
from mivlo.core.loudness import LoudnessMeter
from mivlo.core.model import Evidence
from mivlo.core.moves.base import slice_bell
from mivlo.core.units import Array

__all__ = ["BACK_FROM_DB", "LEFT_FROM_DB", "Moments", "Untreated", "back_db", "comes_back", "loudness_change_db"]

BACK_FROM_DB, LEFT_FROM_DB = 1.5, 2.0  # how much it must come up, and how much of it must then stand out
BLOCK_FRAMES = 1 << 17
RING_60_DB = np.log(1_000.0) / np.pi  # periods times Q
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


class Untreated:
    """A track before its moves: each stretch of it in which faults were found is listened to once.

    Source: ours
    """

    def __init__(self, source: Source, *, offset_s: float, sample_rate_hz: float) -> None:
        """Take a track that starts at `offset_s` of the session. Raises nothing."""
        self._source, self._offset_s, self._rate = source, offset_s, sample_rate_hz
        self._maps: dict[tuple[int, int], LevelMap] = {}

    def moments_of(self, evidence: Evidence) -> Moments:
        """Return when a fault was there. Raises nothing."""
        stretch = self._frames(evidence.start_s, evidence.end_s)
        if evidence.behaviour == "burst" and evidence.times:
            return Moments(np.array([self._frames(*one) for one in evidence.times]))
        if stretch not in self._maps:
            self._maps[stretch] = level_map(
                self._source, start=stretch[0], end=stretch[1], sample_rate_hz=self._rate
            )  # fmt: skip
        levels = self._maps[stretch]
        chosen = active_frames(levels)
        if evidence.behaviour == "when-loud":
            chosen = loud_frames(levels, chosen)
        return Moments(_spans(levels, chosen, self._rate))

    def _frames(self, start_s: float, end_s: float) -> tuple[int, int]:
        start = min(max(round((start_s - self._offset_s) * self._rate), 0), self._source.n_frames)
        return start, min(max(round((end_s - self._offset_s) * self._rate), start), self._source.n_frames)


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
    off: Source, on: Source, evidence: Evidence, moments: Moments, *, louder_db: float, sample_rate_hz: float
) -> float:  # fmt: skip
    """Return by how much the band of a fault comes up from one sound to another, less what the whole does.

    Parameters
    ----------
    off, on : behind the moves, without and with the stand-ins; they start together
    moments : in frames of both
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
    rings = round(RING_60_DB * q / evidence.hz * sample_rate_hz)
    before = _band_power(off, sos, moments.frames, rings)
    after = _band_power(on, sos, moments.frames, rings)
    return float(10.0 * np.log10((after + SILENT) / (before + SILENT)) - louder_db)


def _band_power(source: Source, sos: Array, spans: np.ndarray, rings: int) -> float:
    """Return the mean power, over channels and spans (n, 2) of frames, of what a band-pass lets through, which rings
    for so many frames."""
    # Imported late: it takes longer to load than the rest of the application.
    from scipy.signal import sosfilt

    total, count = 0.0, 0
    inside = np.zeros(BLOCK_FRAMES, dtype=bool)
    for run in np.split(spans, np.flatnonzero(spans[1:, 0] - spans[:-1, 1] > rings) + 1) if len(spans) else ():
        state = np.zeros((1, source.n_channels, 2))
        begin, end = max(int(run[0, 0]) - rings, 0), min(int(run[-1, 1]), source.n_frames)
        for start in range(begin, end, BLOCK_FRAMES):
            x = np.asarray(source.read(start, min(BLOCK_FRAMES, end - start)), dtype=np.float64)
            y, state = sosfilt(sos, x, axis=1, zi=state)
            inside[:] = False
            for first, last in _within(run, start, start + x.shape[1]):
                inside[first - start : last - start] = True
            chosen = y[:, inside[: x.shape[1]]]
            total += float(np.sum(chosen**2))
            count += chosen.size
    return total / max(count, 1)


def _within(spans: np.ndarray, start: int, end: int) -> Sequence[tuple[int, int]]:
    some = spans[(spans[:, 1] > start) & (spans[:, 0] < end)]
    return [(max(int(first), start), min(int(last), end)) for first, last in some]
