"""Measures a suspect again on the treated sound: is it cured, and what did the cure take from its region?"""

from dataclasses import dataclass, replace
from typing import Literal, cast, get_args

import numpy as np

from mivlo.core.engine.source import Source
from mivlo.core.finder.bells import LINE, WIDE, bell_curve, bell_gain_db, bell_of, ring_q
from mivlo.core.finder.events import BurstKind, find_events, over_at
from mivlo.core.finder.level_map import BANDS_PER_OCTAVE, LevelMap, active_frames, level_map, loud_frames
from mivlo.core.finder.measures import ring_time_s
from mivlo.core.finder.searches import hum
from mivlo.core.model import Behaviour
from mivlo.core.processors.timed import Spans
from mivlo.core.units import Floats

__all__ = ["BeforeAndAfter", "Cure", "Verdict", "is_over_cut", "measure_again", "region_lost"]

Verdict = Literal["cured", "better", "not yet"]
CURED_DB, CURED_SHARE = 2.0, 0.3  # what may be left of the excess, or of its figure
BETTER_DB = 1.5
GONE_DB = 1.0  # of excess left: what rings there lies no higher than all else
SHORTER, AS_AROUND = 0.75, 1.3  # of the ring before; of what rings around it
RINGS_ON = 1.7  # times what rings around it: then its decay is part of the fault
SAME_EVENT_S, FEW_LEFT = 0.05, 0.2  # of bursts: as near is the same one; so many may still be told
WIDE_BELOW_Q = 4.0
REGION_OCTAVES = 0.5  # either side
LOUDNESS_POWER = 0.3  # of a band's power: loudness grows as that (Stevens' law; 10 dB are twice as loud)
OVER_CUT = 0.35  # of the region's own loudness


@dataclass(frozen=True, slots=True)
class Cure:
    """Before and after; `region_lost` is the part, 0 to 1, of the track's own loudness around it that is gone.

    `left_db` is the excess after, below 0 where more was taken than stood out.
    """

    excess_before_db: float
    excess_after_db: float
    ring_before_s: float | None
    ring_after_s: float | None
    region_lost: float
    verdict: Verdict
    left_db: float

    @property
    def over_cut(self) -> bool:
        """Tell whether so much of the region is gone that the user should hear of it."""
        return is_over_cut(self.region_lost)


class BeforeAndAfter:
    """A sound without and with its moves: each stretch of both is listened to once, whatever is measured there.

    Source: ours
    """

    def __init__(self, before: Source, after: Source, *, sample_rate_hz: float) -> None:
        """Take two sounds that start together. Raises nothing."""
        self.before, self.after, self.sample_rate_hz = before, after, sample_rate_hz
        self._maps: dict[tuple[int, int], list[LevelMap]] = {}

    def maps(self, start: int, end: int) -> list[LevelMap]:
        """Return the levels of a stretch, before and after. Raises nothing."""
        if (start, end) not in self._maps:
            self._maps[start, end] = [
                level_map(source, start=start, end=end, sample_rate_hz=self.sample_rate_hz)
                for source in (self.before, self.after)
            ]
        return self._maps[start, end]


def is_over_cut(lost: float) -> bool:
    """Tell whether so much of a region's own loudness (0 to 1) is gone that it should be said."""
    return lost > OVER_CUT


def region_lost(sounds: BeforeAndAfter, *, hz: float, times: Spans, start: int, end: int) -> float:
    """Return the part, 0 to 1, of a track's own loudness within half an octave of hz that is gone.

    `times` (start_s, end_s) are those that count; none: all in which something sounds.

    Raises
    ------
    Nothing.

    Source: Stevens' power law (exponent 0.3)
    """
    maps = sounds.maps(start, end)
    active = active_frames(maps[0])
    within = _within(times, maps[0].times_s[active])
    chosen = active[within] if within.any() else active
    return _lost(maps[0].levels_db[chosen], maps[1].levels_db[chosen], _band(maps[0], hz))


def measure_again(
    sounds: BeforeAndAfter, *, kind: str, hz: float, q: float, behaviour: Behaviour, times: Spans, start: int, end: int
) -> Cure:  # fmt: skip
    """Return what became of a suspect, measured as when it was found.

    Plosives and sibilants are measured at their `times` (start_s, end_s); all else over the frames in which something
    sounds, or in which it is loud. Of a wide one the excess itself is not the track's own.

    Raises
    ------
    Nothing.

    Source: the same fits as when it was found; loudness of the region by Stevens' power law (exponent 0.3)
    """
    if kind in get_args(BurstKind):
        return _bursts_again(sounds, cast("BurstKind", kind), hz, times, start, end)
    maps = sounds.maps(start, end)
    band, wide = _band(maps[0], hz), q < WIDE_BELOW_Q
    active = active_frames(maps[0])
    chosen = loud_frames(maps[0], active) if behaviour == "when-loud" else active
    levels = [one.levels_db[chosen] for one in maps]
    fit = bell_of(maps[0], active, hz, wide=wide, when_loud=behaviour == "when-loud")
    # What was taken is a smooth curve, whatever the instrument: only so much of it counts as stands out as the fault
    # did.
    taken_db = bell_gain_db(np.mean(levels[0] - levels[1], axis=0), hz, fit, WIDE if wide else LINE)
    excess = [max(fit.gain_db, 0.0), max(fit.gain_db - taken_db, 0.0)]
    left_db = fit.gain_db - taken_db
    lost = _lost(levels[0] - bell_curve(replace(fit, gain_db=excess[0]), hz, len(maps[0].hz)), levels[1], band)
    if kind == "hum":
        excess = [hum.excess_db(maps[0], one, hz) for one in maps]
        left_db = excess[1]
    rings: list[float | None] = [None, None]
    around: list[float] = []
    if not wide and kind != "hum":
        where, width_q = (start, end), ring_q(levels[0].mean(axis=0), band)
        rate = sounds.sample_rate_hz
        rings = [_ring(source, hz, width_q, where, rate) for source in (sounds.before, sounds.after)]
        beside = [_ring(sounds.after, hz * ratio, width_q, where, rate) for ratio in (0.84, 1.19)]
        around = [ring for ring in beside if ring is not None]
    return Cure(excess[0], excess[1], rings[0], rings[1], lost, _verdict(excess, rings, around), left_db)


def _bursts_again(sounds: BeforeAndAfter, kind: BurstKind, hz: float, times: Spans, start: int, end: int) -> Cure:
    """Return what became of bursts: cured where few would still be told; what must not be lost is what else lies
    there."""
    over = [
        over_at(source, kind, times, start=start, end=end, sample_rate_hz=sounds.sample_rate_hz)
        for source in (sounds.before, sounds.after)
    ]
    events = find_events(sounds.after, start=start, end=end, sample_rate_hz=sounds.sample_rate_hz)
    events_s = np.array([event.start_s for event in events if event.kind == kind])
    is_left = [bool(np.any(np.abs(events_s - first) < SAME_EVENT_S)) for first, _ in times]
    left = float(np.mean(is_left)) if times else 0.0
    maps = sounds.maps(start, end)
    active = active_frames(maps[0])
    elsewhere = active[~_within(times, maps[0].times_s[active])]
    lost = (
        _lost(maps[0].levels_db[elsewhere], maps[1].levels_db[elsewhere], _band(maps[0], hz)) if len(elsewhere) else 0.0
    )
    better: Verdict = "better" if over[0] - over[1] >= BETTER_DB else "not yet"
    return Cure(over[0], over[1], None, None, lost, "cured" if left <= FEW_LEFT else better, over[1])


def _band(levels: LevelMap, hz: float) -> int:
    return int(np.argmin(np.abs(np.log2(levels.hz / hz))))


def _within(times: Spans, at_s: Floats) -> np.ndarray:
    """Return (frames,) which of some moments lie within times."""
    within = np.zeros(len(at_s), dtype=bool)
    for first, last in times:
        within |= (at_s >= first) & (at_s <= last)
    return within


def _lost(before: Floats, after: Floats, band: int) -> float:
    """Return how much less loud the bands around a band are in the second of two (frames, bands) levels in dB."""
    reach = round(REGION_OCTAVES * BANDS_PER_OCTAVE)
    region = slice(max(band - reach, 0), band + reach + 1)
    was, now = (float(np.mean(10.0 ** (LOUDNESS_POWER * levels[:, region] / 10.0))) for levels in (before, after))
    return float(np.clip(1.0 - now / max(was, 1e-12), 0.0, 1.0))


def _ring(source: Source, hz: float, q: float, where: tuple[int, int], sample_rate_hz: float) -> float | None:
    return ring_time_s(source, hz, q, start=where[0], end=where[1], sample_rate_hz=sample_rate_hz)


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
