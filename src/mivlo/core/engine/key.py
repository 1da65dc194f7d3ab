"""The raw signal of a track, as moves of others listen to it: before its ledger, behind its mute."""

from collections.abc import Callable

from mivlo.core.engine.mix import StripState
from mivlo.core.engine.ramp import Ramp
from mivlo.core.engine.source import Source
from mivlo.core.units import db_to_gain

__all__ = ["Key", "OpenSource"]

OpenSource = Callable[[str], Source]


class Key:
    """The raw signal of a track, as others listen to it."""

    def __init__(self, state: StripState, open_source: OpenSource, muted: bool) -> None:
        self.state, self._open_source = state, open_source
        self.open = Ramp(0.0 if muted else 1.0)
        self.fader = Ramp(db_to_gain(state.gain_db))
        self._source: Source | None = None

    @property
    def heard(self) -> bool:
        """Tell whether it is not muted."""
        return self.open.goal > 0.0

    @property
    def source(self) -> Source:
        """Return the track's sound; opened when somebody listens to it."""
        if self._source is None:
            self._source = self._open_source(self.state.audio_id)
        return self._source
