"""Two tracks that want one region, with all others around: what a cut in the one that yields would give and cost."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from mivlo.core.ensemble.hearing import CAMS, hz_to_cams
from mivlo.core.ensemble.listening import Heard, MixedTrack, ear_powers, hear_powers
from mivlo.core.units import Array, Floats

__all__ = ["Contest", "Outcome", "contest_between", "outcome", "region_bands"]

MOST_FRAMES = 160  # looked at: spread over all moments in which both play
SOUNDING_DB = 25.0  # below its loud moments, a track does not sound in the region
FRONT, YIELDING = 0, 1


@dataclass(frozen=True, slots=True)
class Contest:
    """`powers` (ears, 3, frames, bands): who goes first, who yields, all others; `active` (frames,): the first sounds
    there."""

    powers: Floats
    region: slice
    active: np.ndarray


@dataclass(frozen=True, slots=True)
class Outcome:
    """Loudness in sone on average: what is heard of the first one in the region, and of the other alone, everywhere."""

    front: float
    yielding: float


def region_bands(low_hz: float, high_hz: float) -> slice:
    """Return the bands of the model whose centres lie in a region, one at least. Raises nothing; source: ours."""
    low, high = np.searchsorted(CAMS, hz_to_cams(np.array([low_hz, high_hz])))
    low = min(int(low), len(CAMS) - 1)
    return slice(low, max(int(high), low + 1))


def contest_between(
    tracks: Sequence[MixedTrack],
    heard: Heard,
    *,
    front: int,
    yielding: int,
    low_hz: float,
    high_hz: float,
    full_scale_db: float,
) -> Contest | None:
    """Return what stands against what in a region; None where the two never sound together.

    Raises
    ------
    Nothing.

    Source: ours; all other tracks are taken as one, which gives the same losses (excitations add up, `hear`)
    """
    both = np.flatnonzero(heard.sounding[front] & heard.sounding[yielding])
    if not len(both):
        return None
    frames = both[:: -(-len(both) // MOST_FRAMES)]
    ears = ear_powers(tracks, frames) * np.float32(10.0 ** (full_scale_db / 10.0))
    others = ears.sum(axis=1) - ears[:, front] - ears[:, yielding]
    powers = np.stack([ears[:, front], ears[:, yielding], np.maximum(others, 0.0)], axis=1)
    region = region_bands(low_hz, high_hz)
    own = powers[:, FRONT, :, region].sum(axis=(0, 2))
    active = own > np.percentile(own, 95.0) * 10.0 ** (-SOUNDING_DB / 10.0)
    return Contest(np.ascontiguousarray(powers, dtype=np.float32), region, active)


def outcome(contest: Contest, gain_power: Array) -> Outcome:
    """Return what is heard when the yielding track's power is multiplied by (bands,) while the first one sounds.

    Raises
    ------
    Nothing.

    Source: partial loudness (`hear`)
    """
    powers = contest.powers.copy()
    powers[:, YIELDING, contest.active] *= gain_power.astype(np.float32)
    loudness, kept, _ = hear_powers(powers)
    return Outcome(
        float(kept[FRONT, :, contest.region].sum(axis=1).mean()), float(loudness[YIELDING].sum(axis=1).mean())
    )
