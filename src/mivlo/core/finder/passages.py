"""Passages of a long sound, put one after another: what is listened to where all of it would take too long."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from mivlo.core.engine.source import ArraySource, Source

__all__ = ["Passages", "passages_for"]

ALL_UP_TO_S = 60.0  # what is no longer is listened to as a whole
PASSAGE_S, LEAD_S = 10.0, 1.0  # of what is longer; before each, for filters that are still at rest
FEWEST, MOST = 4, 8
WANTED_S = 20.0  # of each fault
NEAR_BEST = 0.9  # among passages that are about as good, the one furthest from the others counts


@dataclass(frozen=True, slots=True)
class Passages:
    """`frames` (n, 2): first and last frames of a sound, apart and in order; `counts_from` (n,): the frames from which
    on each counts, its lead being over."""

    frames: np.ndarray
    counts_from: np.ndarray

    def of(self, source: Source) -> ArraySource:
        """Return the passages of a sound, one after another. Raises OSError."""
        parts = [source.read(int(first), int(last - first)) for first, last in self.frames]
        return ArraySource(np.concatenate(parts, axis=1))

    def within(self, spans: np.ndarray) -> np.ndarray:
        """Return (m, 2) what of some spans (n, 2) of the sound counts, in frames of the passages put together.

        Raises
        ------
        Nothing.

        Source: ours
        """
        found, put_at = [np.zeros((0, 2), dtype=np.int64)], 0
        for (first, last), begin in zip(self.frames, self.counts_from, strict=True):
            cut = np.clip(spans, begin, last)
            found.append(cut[cut[:, 1] > cut[:, 0]] - first + put_at)
            put_at += int(last - first)
        return np.concatenate(found)


def passages_for(faults: Sequence[np.ndarray], n_frames: int, *, sample_rate_hz: float) -> Passages:
    """Return passages in which all faults are heard: of each, WANTED_S or all that there is, as far as MOST passages
    hold it; spread over the song where any would do.

    Parameters
    ----------
    faults : of each, (n, 2) first and last frames of the sound in which it is there, apart and in order

    Raises
    ------
    Nothing.

    Source: ours
    """
    if n_frames <= ALL_UP_TO_S * sample_rate_hz:
        return Passages(np.array([[0, n_frames]]), np.zeros(1, dtype=np.int64))
    length, lead = round(PASSAGE_S * sample_rate_hz), round(LEAD_S * sample_rate_hz)
    begins = np.arange(0, n_frames, length)
    held = np.stack([_held(spans, begins, length) for spans in faults]) if faults else np.zeros((0, len(begins)))
    wanted = np.minimum(held.sum(axis=1), WANTED_S * sample_rate_hz)
    chosen = sorted(_chosen(held, wanted, len(begins)))
    frames: list[list[int]] = []
    counts: list[int] = []
    for begin in begins[chosen]:
        end = min(int(begin) + length, n_frames)
        if frames and frames[-1][1] >= begin - lead:  # it goes on from the one before
            frames[-1][1] = end
        else:
            frames.append([max(int(begin) - lead, 0), end])
            counts.append(int(begin))
    return Passages(np.array(frames), np.array(counts))


def _held(spans: np.ndarray, begins: np.ndarray, length: int) -> np.ndarray:
    """Return (passages,) how many frames of some spans each passage holds."""
    cut = np.clip(spans[:, None, :], begins[:, None], begins[:, None] + length)
    return np.asarray((cut[..., 1] - cut[..., 0]).sum(axis=0), dtype=float)


def _chosen(held: np.ndarray, wanted: np.ndarray, n: int) -> list[int]:
    """Return which of n passages are listened to; held (faults, passages) and wanted (faults,) in frames."""
    chosen: list[int] = []
    left = wanted.copy()
    while len(chosen) < min(MOST, n) and (len(chosen) < FEWEST or (left > 0.0).any()):
        new = np.minimum(held, left[:, None]) / np.maximum(wanted, 1.0)[:, None]
        worth = new.sum(axis=0)
        worth[chosen] = -1.0
        if len(chosen) >= FEWEST and worth.max() <= 0.0:
            break
        near = np.flatnonzero(worth >= NEAR_BEST * worth.max())
        apart = np.abs(near[:, None] - np.array([*chosen, -1, n])).min(axis=1)
        chosen.append(int(near[np.argmax(apart)]))
        left = np.maximum(left - held[:, chosen[-1]], 0.0)
    return chosen
