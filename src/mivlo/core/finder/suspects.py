"""The finder: what behaves like a fault in a track, with the evidence for it and a proposed move."""

from mivlo.core.engine.source import Source
from mivlo.core.errors import ParameterError
from mivlo.core.finder.band_cues import band_cues
from mivlo.core.finder.events import Event, find_events
from mivlo.core.finder.level_map import level_map
from mivlo.core.finder.measures import cliff_hz, track_notes
from mivlo.core.finder.network import odds
from mivlo.core.finder.searches import SEARCHES
from mivlo.core.finder.stretch import Findings, Stretch
from mivlo.core.moves.base import Keepers
from mivlo.core.roles import VOICES, Role

__all__ = ["find"]

EDGE_OCTAVES = 0.15  # below where a sound was cut off: an edge looks like a line
HIGHEST_OF_RATE = 0.42  # above, a converter may have begun to cut
LOWEST_OF_LOW_TRACKS_HZ = 80.0  # below it a bass's or a kick's fundamental is nobody's fault


def find(
    source: Source, *, start: int, end: int, sample_rate_hz: float, low_hz: float = 20.0, high_hz: float = 20_000.0,
    role: Role | None = None, keepers: Keepers = (),
) -> Findings:  # fmt: skip
    """Return suspects and events of a stretch of a track.

    Parameters
    ----------
    source : of the session's rate; start and end in frames
    low_hz, high_hz : limits within which is looked
    role : what the track is, where known: events are looked for in voices, or where it is not known
    keepers : regions in Hz which no suspect may touch

    Raises
    ------
    ParameterError: an empty stretch, or limits that leave nothing between them

    Source: cues of behaviour (band_cues) joined by fitted weights (network); docs/method.md, docs/figures.md
    """
    start, end = max(start, 0), min(end, source.n_frames)
    if end <= start:
        raise ParameterError(f"a stretch from frame {start} to {end} is empty: it must end after it starts")
    if not 0.0 < low_hz < high_hz:
        raise ParameterError(f"low_hz={low_hz:g} must be above 0 and below high_hz={high_hz:g}")
    events: list[Event] = []
    if role in (None, *VOICES):
        events = find_events(source, start=start, end=end, sample_rate_hz=sample_rate_hz, surely_a_voice=role in VOICES)
        events = [event for event in events if low_hz <= event.hz <= high_hz]
    levels = level_map(source, start=start, end=end, sample_rate_hz=sample_rate_hz)
    cues = band_cues(levels)
    if cues is None:
        return Findings((), tuple(events))
    lowest = LOWEST_OF_LOW_TRACKS_HZ if role in ("bass", "kick") else 0.0
    allowed = (
        (levels.hz >= max(low_hz, lowest)) & (levels.hz <= high_hz) & (levels.hz < HIGHEST_OF_RATE * sample_rate_hz)
    )
    allowed &= levels.hz < cliff_hz(levels, cues.active) / 2.0**EDGE_OCTAVES
    for low, high in keepers:
        allowed &= ~((levels.hz >= low) & (levels.hz <= high))
    notes = track_notes(levels, cues.active)
    stretch = Stretch(source, start, end, sample_rate_hz, role, allowed, levels, cues, odds(cues), notes, tuple(events))
    suspects = [suspect for search in SEARCHES.values() for suspect in search(stretch)]
    return Findings(tuple(sorted(suspects, key=lambda suspect: -suspect.confidence)), tuple(events))
