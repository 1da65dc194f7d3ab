"""A session together with what its files are: all that an analysis of it may hang on."""

from mivlo.core.model.base import Frozen
from mivlo.core.model.session import Session
from mivlo.core.model.strips import Track

__all__ = ["Audio", "RecordedSession"]


class Audio(Frozen):
    """What an imported file is, and its length at the session's rate."""

    id: str
    original_name: str
    format: str
    subtype: str
    original_rate_hz: int
    original_frames: int
    n_channels: int
    n_frames: int


class RecordedSession(Session):
    """A session with the facts of the files that its tracks have."""

    audio: dict[str, Audio]

    def audio_of(self, track: Track) -> Audio:
        """Return what the file of a track is. Raises KeyError for a track of another session. Source: ours."""
        return self.audio[track.audio_id]

    def end_frame(self) -> int:
        """Return the frame at which the last track ends; 0 without tracks. Raises nothing. Source: ours."""
        return max((track.start_frame + self.audio_of(track).n_frames for track in self.tracks), default=0)
