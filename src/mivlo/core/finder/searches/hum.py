"""Mains hum: a comb at multiples of 50 or 60 Hz that is there even in the pauses."""

import numpy as np

from mivlo.core.finder.bells import bell_fit
from mivlo.core.finder.level_map import LevelMap
from mivlo.core.finder.proposals import DEEPEST_DB, Proposals
from mivlo.core.finder.stretch import Stretch, Suspect, around
from mivlo.core.moves.note_family import NoteFamily
from mivlo.core.units import Floats

__all__ = ["excess_db", "in_the_pauses", "search"]

MAINS_HZ = (50.0, 60.0)  # common practice, no source
MULTIPLES = range(1, 9)
PAUSE_PERCENTILE = 5.0  # of the time: what is there even then is no note
STANDS_OUT_DB, FEWEST = 5.0, 4
WIDTH_CENTS = 40.0
HEARD_DB = -100.0


def search(stretch: Stretch) -> list[Suspect]:
    """Return the mains hum of a stretch, the stronger of 50 and 60 Hz, or nothing."""
    levels = stretch.levels
    quiet = in_the_pauses(levels)
    best = max((_combed(levels, quiet, hz) for hz in MAINS_HZ), key=lambda found: len(found[1]))
    hz, found = best
    if len(found) < FEWEST or not stretch.allowed[_band(levels, hz)]:
        return []
    median_db = float(np.median([db for _, db in found]))
    last = max(number for number, _ in found)
    cut = NoteFamily(
        hz=hz, members="overtones", count=last, gain_db=-round(min(median_db, DEEPEST_DB), 1), width_cents=WIDTH_CENTS,
        left_out=tuple(n for n in range(1, last + 1) if n not in [number for number, _ in found]),
    )  # fmt: skip
    span = (float(levels.times_s[0]), float(levels.times_s[-1]))
    return [
        Suspect(
            hz=hz,
            q=1.0 / (2.0 ** (WIDTH_CENTS / 1_200.0) - 1.0),
            excess_db=median_db,
            ring_s=None,
            ring_around_s=None,
            share_of_time=1.0,
            follows_notes=False,
            loud_only=0.0,
            confidence=min(0.45 + 0.08 * len(found), 0.95),
            kind="hum",
            behaviour="steady",
            times=(span,),
            proposals=Proposals(cut, cut),
            **around(levels.hz, quiet, _band(levels, hz), wide=True),
        )
    ]


def in_the_pauses(levels: LevelMap) -> Floats:
    """Return (bands,) the levels that are there even in the pauses."""
    return np.asarray(np.percentile(levels.levels_db, PAUSE_PERCENTILE, axis=0))


def excess_db(before: LevelMap, levels: LevelMap, hz: float) -> float:
    """Return how far the multiples of a hum that stood out before stand out in other levels: the median over them."""
    _, found = _combed(before, in_the_pauses(before), hz)
    quiet = in_the_pauses(levels)
    left = [max(bell_fit(quiet, _band(levels, number * hz)).gain_db, 0.0) for number, _ in found]
    return float(np.median(left)) if left else 0.0


def _combed(levels: LevelMap, quiet: Floats, hz: float) -> tuple[float, list[tuple[int, float]]]:
    """Return which multiples stand out of what is there in the pauses, and by how much."""
    found = []
    for number in MULTIPLES:
        band = _band(levels, number * hz)
        fit = bell_fit(quiet, band)
        top = band + int(np.argmax(quiet[band - 2 : band + 3])) - 2
        if fit.gain_db >= STANDS_OUT_DB and abs(top - band) <= 1 and quiet[band] > HEARD_DB:
            found.append((number, fit.gain_db))
    return hz, found


def _band(levels: LevelMap, hz: float) -> int:
    return int(np.argmin(np.abs(np.log2(levels.hz / hz))))
