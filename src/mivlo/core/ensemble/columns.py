"""What the Ensemble shows of every track: how loud it is where and when, how much of that is hidden, and by whom."""

from dataclasses import dataclass

import numpy as np

from mivlo.core.ensemble.clashes import Clash, core
from mivlo.core.ensemble.hearing import CAMS, STEP_CAMS, cams_to_hz
from mivlo.core.ensemble.listening import Heard
from mivlo.core.units import Array, Floats

__all__ = ["HIDDEN_FROM", "NOBODY", "Columns", "band_edges_hz", "columns", "freed", "worst_stretch"]

NOBODY = 255
HIDDEN_FROM = 115  # of 255: from nearly half of the loudness lost on, a place counts as hidden
INK_POWER = 0.4  # of loudness: faint things must still be seen
SOUNDING_SHARE = 0.03  # of a track's loudest cell: less is not looked for
SHORTEST_LOOP_S, LONGEST_LOOP_S = 1.6, 5.0


@dataclass(frozen=True, slots=True)
class Columns:
    """Each (tracks, bands, times) uint8: ink 0..255, hidden 0..255, number of the track that takes most (NOBODY: none).

    Hidden counts where a track has what it lives from; that its faint overtones drown is no clash, and would hide
    what is one.
    """

    ink: np.ndarray
    hidden: np.ndarray
    by: np.ndarray
    start_s: float
    step_s: float


def band_edges_hz() -> Array:
    """Return the (bands + 1,) edges of the model's bands. Raises nothing; source: `CAMS`."""
    return cams_to_hz(np.append(CAMS - STEP_CAMS / 2.0, CAMS[-1] + STEP_CAMS / 2.0))


def columns(heard: Heard, *, n_times: int) -> Columns:
    """Return small pictures of all tracks over the whole stretch.

    Raises
    ------
    Nothing.

    Source: ours; sums of loudness and of what is lost of it within each step of time
    """
    n_tracks, n_frames, _ = heard.loudness.shape
    first = _steps(n_frames, n_times)
    n_times = len(first)

    def summed(values: Floats) -> Floats:
        return np.add.reduceat(values, first, axis=0).T

    counts = np.diff(np.append(first, n_frames))
    loudness = np.stack([summed(one) for one in heard.loudness]) / counts
    lost = np.stack([summed(loud - kept) for loud, kept in zip(heard.loudness, heard.kept, strict=True)]) / counts
    excitation = np.stack([summed(one) for one in heard.excitation])
    top = float(np.percentile(loudness.max(axis=1), 98.0)) if n_tracks else 0.0
    ink = 255.0 * np.clip(loudness / max(top, 1e-9), 0.0, 1.0) ** INK_POWER
    cores = np.stack([core(one) for one in heard.excitation])[:, :, None]
    playing = loudness > SOUNDING_SHARE * loudness.max(axis=(1, 2), keepdims=True)
    hidden = 255.0 * np.clip(lost / np.maximum(loudness, 1e-9), 0.0, 1.0) * cores * playing
    by = np.full(ink.shape, NOBODY, dtype=np.uint8)
    for index in range(n_tracks if n_tracks > 1 else 0):
        others = excitation.copy()
        others[index] = -1.0
        by[index] = np.where(lost[index] > 0.0, others.argmax(axis=0), NOBODY)
    return Columns(ink.astype(np.uint8), hidden.astype(np.uint8), by, heard.start_s, n_frames / n_times * heard.hop_s)


def freed(before: Heard, after: Heard, *, n_times: int) -> np.ndarray:
    """Return (tracks, bands, times) uint8: which part of each track's loudness is heard that was hidden before, of 255,
    where it has what it lives from.

    Raises
    ------
    Nothing.

    Source: ours; as `columns`
    """
    first = _steps(before.loudness.shape[1], n_times)
    found = []
    for loudness, was, now, excitation in zip(before.loudness, before.kept, after.kept, before.excitation, strict=True):
        whole, won = (np.add.reduceat(one, first, axis=0).T for one in (loudness, now - was))
        found.append(255.0 * np.clip(won / np.maximum(whole, 1e-9), 0.0, 1.0) * core(excitation)[:, None])
    return np.asarray(found, dtype=np.uint8)


def _steps(n_frames: int, n_times: int) -> np.ndarray:
    return np.linspace(0, n_frames, max(min(n_times, n_frames), 1), endpoint=False).astype(int)


def worst_stretch(clash: Clash) -> tuple[float, float] | None:
    """Return a stretch in which to hear a clash: its longest time, a little room around it; None where it has none.

    Raises
    ------
    Nothing. Source: ours
    """
    if not clash.times:
        return None
    start_s, end_s = max(clash.times, key=lambda one: one[1] - one[0])
    end_s = min(end_s, start_s + LONGEST_LOOP_S)
    missing = max(SHORTEST_LOOP_S - (end_s - start_s), 0.0)
    return max(start_s - missing / 2.0, 0.0), end_s + missing / 2.0
