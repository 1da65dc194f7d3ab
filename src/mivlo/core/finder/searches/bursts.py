"""Plosives and sibilants as suspects: the same fault at many places is one suspect."""

from typing import get_args

import numpy as np

from mivlo.core.finder.events import BurstKind
from mivlo.core.finder.proposals import propose
from mivlo.core.finder.stretch import Stretch, Suspect, around
from mivlo.core.roles import VOICES

__all__ = ["search"]

DOUBT_OF_NO_VOICE = (
    0.02  # of a track that nobody has called a voice: drums and plucked strings have bursts of their own
)


def search(stretch: Stretch) -> list[Suspect]:
    """Return one suspect for each kind of event that was heard."""
    heard = {event.kind for event in stretch.events}
    return [_of_kind(stretch, kind) for kind in get_args(BurstKind) if kind in heard]


def _of_kind(stretch: Stretch, kind: BurstKind) -> Suspect:
    """Return the events of a kind as one suspect with many places."""
    chosen = [event for event in stretch.events if event.kind == kind]
    over = float(np.median([event.over_db for event in chosen]))
    hz = float(np.median([event.hz for event in chosen]))
    excess = min(over, 24.0)
    times = tuple((event.start_s, event.end_s) for event in chosen)
    proposals = propose(
        stretch.source, hz=hz, q=1.0, excess_db=excess, times=times, start=stretch.start, end=stretch.end,
        sample_rate_hz=stretch.rate, start_name=kind,
    )  # fmt: skip
    total = sum(event.end_s - event.start_s for event in chosen)
    length_s = (stretch.end - stretch.start) / stretch.rate
    band = int(np.argmin(np.abs(np.log2(stretch.levels.hz / hz))))
    curve = stretch.levels.levels_db[stretch.cues.active].mean(axis=0)
    sure = min(0.5 + 0.1 * len(chosen), 0.95) if len(chosen) > 1 else 0.4
    return Suspect(
        hz=hz,
        q=1.0,
        excess_db=excess,
        ring_s=None,
        ring_around_s=None,
        share_of_time=total / length_s,
        follows_notes=None,
        loud_only=0.0,
        confidence=sure if stretch.role in VOICES else DOUBT_OF_NO_VOICE * sure,
        kind=kind,
        behaviour="burst",
        times=times,
        proposals=proposals,
        **around(stretch.levels.hz, curve, band, wide=True),
    )
