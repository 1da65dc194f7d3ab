"""What a search of the finder is given, and what it returns: a stretch as it was analysed, and suspects."""

from dataclasses import dataclass

import numpy as np

from mivlo.core.engine.source import Source
from mivlo.core.finder.band_cues import BandCues
from mivlo.core.finder.events import Event
from mivlo.core.finder.kinds import Kind
from mivlo.core.finder.level_map import BANDS_PER_OCTAVE, LevelMap
from mivlo.core.finder.measures import Notes
from mivlo.core.finder.network import Odds
from mivlo.core.finder.proposals import Proposals
from mivlo.core.model import Behaviour
from mivlo.core.moves import Move
from mivlo.core.roles import Role
from mivlo.core.units import Floats

__all__ = ["Findings", "Stretch", "Suspect", "around"]


@dataclass(frozen=True, slots=True)
class Suspect:
    """One place that behaves like a fault; figures as in definitions.md, unknown ones None."""

    hz: float
    q: float
    excess_db: float
    ring_s: float | None
    ring_around_s: float | None
    share_of_time: float
    follows_notes: bool | None
    loud_only: float  # 0 steady to 1 only when loud
    confidence: float
    kind: Kind
    behaviour: Behaviour
    times: tuple[tuple[float, float], ...]
    around_hz: tuple[float, ...]  # the levels that it was seen in, as evidence
    around_db: tuple[float, ...]
    proposals: Proposals

    @property
    def move(self) -> Move:
        """Return the proposed move: one that stands still for a steady fault."""
        return self.proposals.cut if self.behaviour == "steady" else self.proposals.tame


@dataclass(frozen=True, slots=True)
class Findings:
    """What was found in a stretch: suspects, strongest first, and events by time."""

    suspects: tuple[Suspect, ...]
    events: tuple[Event, ...]


@dataclass(frozen=True, slots=True)
class Stretch:
    """A stretch of a track as it was analysed once for all searches; `allowed` (bands,) are those that may be
    accused."""

    source: Source
    start: int
    end: int
    rate: float
    role: Role | None
    allowed: np.ndarray
    levels: LevelMap
    cues: BandCues
    odds: Odds
    notes: Notes
    events: tuple[Event, ...]


def around(hz: Floats, curve: Floats, band: int, *, wide: bool) -> dict[str, tuple[float, ...]]:
    """Return the part of a curve of levels that is shown as evidence, an octave or two either way."""
    reach = (2 if wide else 1) * BANDS_PER_OCTAVE
    part = slice(max(band - reach, 0), band + reach + 1)
    return {
        "around_hz": tuple(round(float(v), 2) for v in hz[part]),
        "around_db": tuple(round(float(v), 2) for v in curve[part]),
    }
