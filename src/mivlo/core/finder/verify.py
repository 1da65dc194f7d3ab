"""Measures a suspect again on the treated sound: is it cured, and what did the cure take from its region?"""

from dataclasses import dataclass
from typing import Literal

import numpy as np

from mivlo.core.engine.mix import Behaviour
from mivlo.core.engine.source import Source
from mivlo.core.finder.level_map import BANDS_PER_OCTAVE, LevelMap, active_frames, level_map, loud_frames
from mivlo.core.finder.measures import bell_fit, ring_time_s

__all__ = ["Cure", "Verdict", "is_over_cut", "measure_again", "region_lost"]

Verdict = Literal["cured", "better", "not yet"]
CURED_DB, CURED_SHARE = 2.0, 0.3  # what may be left of the excess, or of its figure
BETTER_DB = 1.5
GONE_DB = 1.0  # of excess left: what rings there lies no higher than all else
SHORTER, AS_AROUND = 0.75, 1.3  # of the ring before; of what rings around it
RINGS_ON = 1.7  # times what rings around it: then its decay is part of the fault
WIDE_BELOW_Q = 4.0
REGION_OCTAVES = 0.5  # either side
LOUDNESS_POWER = 0.3  # of a band's power: loudness grows as that (Stevens' law; 10 dB are twice as loud)
OVER_CUT = 0.35  # of the region's own loudness


@dataclass(frozen=True, slots=True)
class Cure:
    """Before and after; `region_lost` is the part, 0 to 1, of the track's own loudness around it that is gone."""

    excess_before_db: float
    excess_after_db: float
    ring_before_s: float | None
    ring_after_s: float | None
    region_lost: float
    verdict: Verdict

    @property
    def over_cut(self) -> bool:
        """Tell whether so much of the region is gone that the user should hear of it."""
        return is_over_cut(self.region_lost)


def is_over_cut(lost: float) -> bool:
    """Tell whether so much of a region's own loudness (0 to 1) is gone that it should be said."""
    return lost > OVER_CUT


def region_lost(
    before: Source, after: Source, *, hz: float, times: tuple[tuple[float, float], ...], start: int, end: int,
    sample_rate_hz: float,
) -> float:  # fmt: skip
    """Return the part, 0 to 1, of a track's own loudness within half an octave of hz that is gone; `times` as below.

    Raises
    ------
    Nothing.

    Source: Stevens' power law (exponent 0.3)
    """
    maps = _both(before, after, start, end, sample_rate_hz)
    return _lost(maps, _band(maps[0], hz), _sounding(maps[0], times))


def measure_again(
    before: Source, after: Source, *, hz: float, q: float, times: tuple[tuple[float, float], ...], start: int, end: int,
    sample_rate_hz: float, behaviour: Behaviour | None = None,
) -> Cure:  # fmt: skip
    """Return what became of a suspect; `times` are where it sounds, empty: everywhere.

    A wide one that is steady or loud-only is measured over all that sounds, or all that is loud, as when it was found.

    Raises
    ------
    Nothing.

    Source: the same fits as when it was found; loudness of the region by Stevens' power law (exponent 0.3)
    """
    maps = _both(before, after, start, end, sample_rate_hz)
    band = _band(maps[0], hz)
    wide = q < WIDE_BELOW_Q
    chosen = _sounding(maps[0], () if wide and behaviour in ("steady", "when-loud") else times)
    if wide and behaviour == "when-loud":
        chosen = loud_frames(maps[0], chosen)
    excess = [max(bell_fit(one.levels_db[chosen].mean(axis=0), band, wide=wide).gain_db, 0.0) for one in maps]
    rings: list[float | None] = [None, None]
    around: list[float] = []
    if not wide:
        where = (start, end)
        rings = [_ring(source, hz, q, where, sample_rate_hz) for source in (before, after)]
        around = [ring for ratio in (0.84, 1.19) if (ring := _ring(after, hz * ratio, q, where, sample_rate_hz)) is not None]
    lost = _lost(maps, band, chosen)
    return Cure(excess[0], excess[1], rings[0], rings[1], lost, _verdict(excess, rings, around))


def _both(before: Source, after: Source, start: int, end: int, sample_rate_hz: float) -> list[LevelMap]:
    return [level_map(source, start=start, end=end, sample_rate_hz=sample_rate_hz) for source in (before, after)]


def _band(levels: LevelMap, hz: float) -> int:
    return int(np.argmin(np.abs(np.log2(levels.hz / hz))))


def _lost(maps: list[LevelMap], band: int, chosen: np.ndarray) -> float:
    """Return how much less loud the bands around a band are in the second map, over the chosen frames."""
    reach = round(REGION_OCTAVES * BANDS_PER_OCTAVE)
    region = slice(max(band - reach, 0), band + reach + 1)
    before, after = (float(np.mean(10.0 ** (LOUDNESS_POWER * one.levels_db[chosen, region] / 10.0))) for one in maps)
    return float(np.clip(1.0 - after / max(before, 1e-12), 0.0, 1.0))


def _ring(source: Source, hz: float, q: float, where: tuple[int, int], sample_rate_hz: float) -> float | None:
    return ring_time_s(source, hz, max(q, 8.0), start=where[0], end=where[1], sample_rate_hz=sample_rate_hz)


def _sounding(levels: LevelMap, times: tuple[tuple[float, float], ...]) -> np.ndarray:
    """Return which frames count: those within the times, or all that sound."""
    sounds = active_frames(levels)
    at_s = levels.times_s[sounds]
    within = np.zeros(len(at_s), dtype=bool)
    for first, last in times:
        within |= (at_s >= first) & (at_s <= last)
    return np.asarray(sounds[within] if within.any() else sounds)


def _verdict(excess: list[float], rings: list[float | None], around: list[float]) -> Verdict:
    """Return how it stands: level and decay both count, where decay was known to be the fault."""
    before, after = rings
    low = excess[1] <= max(CURED_DB, CURED_SHARE * excess[0])
    rang = before is not None and bool(around) and before > RINGS_ON * float(np.median(around))
    allowed = max(AS_AROUND * float(np.median(around)), SHORTER * before) if rang and before is not None else np.inf
    still_rings = after is not None and after > allowed
    if low and (excess[1] < GONE_DB or not still_rings):
        return "cured"
    shorter = before is not None and after is not None and after <= SHORTER * before
    return "better" if low or excess[0] - excess[1] >= BETTER_DB or shorter else "not yet"
