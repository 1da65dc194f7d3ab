"""Clashes: who hides whom, in which region, when, by how much, and how much of it a cut could win back."""

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace

import numpy as np
from scipy.ndimage import uniform_filter1d

from mivlo.core import kernels
from mivlo.core.ensemble.hearing import CAMS, STEP_CAMS, cams_to_hz, partial_loudness
from mivlo.core.ensemble.listening import Heard
from mivlo.core.units import Array, Floats

__all__ = ["STRONG", "Clash", "core", "find_clashes", "regain"]

EDGE = 0.3  # of the highest loss: so far a region reaches
STRONG = 0.4  # of strength: from there on a clash is put forward
LEAST_STRENGTH = 0.05  # less is nobody's trouble
LEAST_LOSS_PERCENT = 15.0  # of the hidden track's loudness in the region
MOST_OF_PAIR = 3  # regions
NARROWEST_BANDS = 4
# A neighbour always takes something; a place counts as hidden as more than half of its loudness is gone, wholly from
# 0.9 on.
COUNTS_FROM, COUNTS_FULLY = 0.5, 0.9
# What a track lives from: where it excites the ear within 5 dB of its strongest place, fading out 10 dB further down.
# That its faint overtones drown is no clash.
CORE_DB, CORE_FADE_DB = 5.0, 10.0
HIDDEN_FROM = 0.35  # of a moment's loudness in the region gone: it counts as hidden then
MOST_TIMES, LONGEST_GAP_S, SHORTEST_S = 60, 0.3, 0.15
ALIKE = 0.98  # correlation of what two tracks excite: they are the same, and nothing is to be decided
SUM_SHARE = 0.5  # of the loss that no single other track takes: then it is hidden by all together
REGAIN_FRAMES = 400  # looked at, spread over all: enough for a share
SUM_COUNTS = 0.5  # of its strength: no single decision answers it


@dataclass(frozen=True, slots=True)
class Clash:
    """A region where one track hides another; tracks by their numbers, `by` None: all others together.

    Parameters
    ----------
    share_of_time : of the time in which both play, in which it is hidden there
    loss_percent : of the hidden one's own loudness there, while both play
    loss_sone : the same, in sone, on average while both play
    strength : which part of what the hidden one lives from is hidden there by the other, 0 to 1
    winnable_percent : of what is lost, how much comes back if the other is gone from the region
    """

    hidden: int
    by: int | None
    low_hz: float
    high_hz: float
    centre_hz: float
    share_of_time: float
    loss_percent: float
    loss_sone: float
    strength: float
    winnable_percent: float
    times: tuple[tuple[float, float], ...]
    same_sound: bool


def find_clashes(heard: Heard) -> list[Clash]:
    """Return the clashes of a mix, strongest first; none for one track, silence, or tracks that never sound together.

    Raises
    ------
    Nothing.

    Source: ours, on partial loudness (`hear`): a loss is shared out among the others by what each excites at that place
    """
    n_tracks = len(heard.loudness)
    lost = np.zeros_like(heard.loudness)
    for hidden in range(n_tracks):
        gone = 1.0 - heard.kept[hidden] / np.maximum(heard.loudness[hidden], 1e-9)
        counted = np.clip((gone - COUNTS_FROM) / (COUNTS_FULLY - COUNTS_FROM), 0.0, 1.0).astype(np.float32)
        lost[hidden] = heard.loudness[hidden] * counted
    pairs = _shared_out(heard, lost)
    found = []
    for hidden in range(n_tracks):
        alive = core(heard.excitation[hidden])
        for by in range(n_tracks):
            if by != hidden:
                found += _of_pair(heard, alive * pairs[0, hidden, by], alive * pairs[1, hidden, by], hidden, by)
        found += _of_sum(heard, alive, lost[hidden], pairs[0, hidden], hidden)
    return sorted(found, key=lambda clash: -clash.strength)


def _shared_out(heard: Heard, lost: Floats) -> Array:
    """Return (2, hidden, by, bands): what each takes from each, and the loudness of the hidden one while both sound."""
    n_tracks, n_frames = heard.sounding.shape

    def part(frames: slice) -> Array:
        pairs = np.zeros((2, n_tracks, n_tracks, len(CAMS)))
        excitation, sounding, loudness = (
            values[:, frames] for values in (heard.excitation, heard.sounding, heard.loudness)
        )
        kernels.masking_frames.shared_out(lost[:, frames], excitation, sounding, pairs, loudness)
        return pairs

    with ThreadPoolExecutor(2) as both:
        first, second = both.map(part, (slice(0, n_frames // 2), slice(n_frames // 2, n_frames)))
    return np.asarray(first + second)


def core(excitation: Floats) -> Array:
    """Return (bands,) from 0 to 1 of (frames, bands): what a track lives from. Raises nothing; source: ours."""
    mean = excitation.mean(axis=0, dtype=np.float64)
    level_db = 10.0 * np.log10(mean / max(float(mean.max()), 1e-12) + 1e-12)
    return np.asarray(np.clip((level_db + CORE_DB + CORE_FADE_DB) / CORE_FADE_DB, 0.0, 1.0))


def _of_pair(heard: Heard, loss: Array, loudness: Array, hidden: int, by: int | None) -> list[Clash]:
    total = float(loudness.sum())
    if total <= 0.0:
        return []
    found = []
    left = loss.copy()
    for _ in range(MOST_OF_PAIR):
        smooth = uniform_filter1d(left, 3, mode="constant")
        region = _region(smooth)
        share = float(left[region].sum()) / total
        if share < LEAST_STRENGTH:
            break
        left[region] = 0.0
        clash = _clash(heard, loss, region, hidden, by, share)
        if clash.loss_percent >= LEAST_LOSS_PERCENT:
            found.append(clash)
    return found


def _region(loss: Array) -> slice:
    """Return the bands around the highest loss that lose as much as a part of it."""
    top = int(np.argmax(loss))
    low = high = top
    while low > 0 and loss[low - 1] >= EDGE * loss[top]:
        low -= 1
    while high < len(loss) - 1 and loss[high + 1] >= EDGE * loss[top]:
        high += 1
    missing = NARROWEST_BANDS - (high - low + 1)
    if missing > 0:
        low, high = max(low - missing // 2, 0), min(high + (missing + 1) // 2, len(loss) - 1)
    return slice(low, high + 1)


def _of_sum(heard: Heard, alive: Array, lost: Floats, pairs: Array, hidden: int) -> list[Clash]:
    """Return what is hidden by many together, where no single other takes most of it."""
    others = heard.sounding.any(axis=0) & heard.sounding[hidden]
    if len(heard.loudness) < 3 or not others.any():
        return []
    loss = lost[others].sum(axis=0, dtype=np.float64)
    most = pairs.max(axis=0)
    of_many = alive * np.where(most < (1.0 - SUM_SHARE) * loss, loss, 0.0)
    if not of_many.any():
        return []
    found = _of_pair(heard, of_many, alive * heard.loudness[hidden, others].sum(axis=0, dtype=np.float64), hidden, None)
    return [replace(clash, strength=SUM_COUNTS * clash.strength) for clash in found]


def _clash(heard: Heard, loss: Array, region: slice, hidden: int, by: int | None, share: float) -> Clash:
    both = heard.sounding[hidden] & _sounding_by(heard, hidden, by)
    own = heard.loudness[hidden, :, region].sum(axis=1)
    gone = (heard.loudness[hidden, :, region] - heard.kept[hidden, :, region]).sum(axis=1) * _taken_by(
        heard, hidden, by, region
    )
    there = both & (own > 0.05 * max(float(np.percentile(own[both], 95.0)), 1e-6)) if both.any() else both
    is_hidden = there & (gone > HIDDEN_FROM * own)
    weights = loss[region] + 1e-12
    return Clash(
        hidden=hidden, by=by, low_hz=float(cams_to_hz(CAMS[region.start] - STEP_CAMS / 2)),
        high_hz=float(cams_to_hz(CAMS[region.stop - 1] + STEP_CAMS / 2)),
        centre_hz=float(cams_to_hz((CAMS[region] * weights).sum() / weights.sum())),
        share_of_time=float(is_hidden.sum() / max(there.sum(), 1)),
        loss_percent=100.0 * float(gone[both].sum() / max(own[both].sum(), 1e-9)),
        loss_sone=float(gone[both].mean()) if both.any() else 0.0, strength=share,
        winnable_percent=100.0 * regain(heard, hidden, by, region), times=_times(is_hidden, heard),
        same_sound=by is not None and _alike(heard, hidden, by),
    )  # fmt: skip


def _sounding_by(heard: Heard, hidden: int, by: int | None) -> np.ndarray:
    if by is not None:
        return np.asarray(heard.sounding[by])
    return np.asarray(np.delete(heard.sounding, hidden, axis=0).any(axis=0))


def _taken_by(heard: Heard, hidden: int, by: int | None, region: slice) -> Floats:
    """Return (frames,): which part of what others excite in a region is the other's."""
    if by is None:
        return np.ones(heard.loudness.shape[1], dtype=np.float32)
    own, other = (heard.excitation[index, :, region].sum(axis=1) for index in (hidden, by))
    noise = np.maximum(heard.total[:, region].sum(axis=1) - own, 1e-9)
    return np.asarray(np.minimum(other / noise, 1.0))


def regain(heard: Heard, hidden: int, by: int | None, region: slice, *, cut_db: float = np.inf) -> float:
    """Return which part of what is lost in a region comes back when the other is cut there by so many dB; 0 to 1."""
    frames = np.flatnonzero(heard.sounding[hidden] & _sounding_by(heard, hidden, by))
    if not len(frames):
        return 0.0
    frames = frames[:: -(-len(frames) // REGAIN_FRAMES)]
    scale = np.float32(1.0 / heard.n_ears)
    own = scale * heard.excitation[hidden, frames, region]
    noise = np.maximum(scale * heard.total[frames, region] - own, 0.0)
    other = noise if by is None else scale * heard.excitation[by, frames, region]
    less = np.maximum(noise - (1.0 - 10.0 ** (-cut_db / 10.0)) * other, 0.0)
    before, after = (partial_loudness(own.astype(np.float64), others, bands=region).sum() for others in (noise, less))
    lost = (heard.loudness[hidden, frames, region] - heard.kept[hidden, frames, region]).sum() / (2.0 * STEP_CAMS)
    return float(np.clip((after - before) / max(lost, 1e-9), 0.0, 1.0))


def _alike(heard: Heard, hidden: int, by: int) -> bool:
    """Tell whether two tracks are the same sound, whatever their levels."""
    a, b = (heard.excitation[index] for index in (hidden, by))
    of_a, of_b = (one.sum(axis=0, dtype=np.float64) for one in (a, b))
    energy = float(np.sqrt(of_a.sum() * of_b.sum()))
    # By the inequality of Cauchy and Schwarz in each band: most pairs are unlike by their mean spectra, which is
    # quickly told.
    if float(np.sqrt(of_a * of_b).sum()) <= ALIKE * energy:
        return False
    return float(np.sqrt(a * b).sum(dtype=np.float64)) > ALIKE * energy


def _times(present: np.ndarray, heard: Heard) -> tuple[tuple[float, float], ...]:
    edges = np.flatnonzero(np.diff(np.concatenate([[0], present.astype(np.int8), [0]])))
    found: list[tuple[float, float]] = []
    for a, b in zip(edges[::2], edges[1::2], strict=True):
        start_s, end_s = heard.start_s + float(a) * heard.hop_s, heard.start_s + float(b) * heard.hop_s
        if found and start_s - found[-1][1] <= LONGEST_GAP_S:
            found[-1] = (found[-1][0], end_s)
        else:
            found.append((start_s, end_s))
    long = sorted((one for one in found if one[1] - one[0] >= SHORTEST_S), key=lambda one: one[0] - one[1])
    return tuple(sorted(long[:MOST_TIMES]))
