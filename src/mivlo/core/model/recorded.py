"""A session together with what its files are: all that an analysis of it may hang on."""

from pydantic import Field

from mivlo.core.model.base import Frozen, Name
from mivlo.core.model.session import Session
from mivlo.core.model.strips import Track

__all__ = ["Audio", "FileMarker", "RecordedSession"]


class FileMarker(Frozen):
    """A place that is marked in a file, in its own frames, and what it is called."""

    frame: int = Field(ge=0, le=2**40)
    name: Name = Field(max_length=60)


class Audio(Frozen):
    """What an imported file is, its length at the session's rate, and what it says of itself.

    `time_reference` counts frames since midnight at the file's own rate; None where the file tells no time.
    """

    id: str
    original_name: str
    format: str
    subtype: str
    original_rate_hz: int
    original_frames: int
    n_channels: int
    n_frames: int
    time_reference: int | None = None
    said_name: str = ""
    description: str = ""
    markers: tuple[FileMarker, ...] = ()


class RecordedSession(Session):
    """A session with the facts of the files that its tracks have."""

    audio: dict[str, Audio]

    def audio_of(self, track: Track) -> Audio:
        """Return what the file of a track is. Raises KeyError for a track of another session. Source: ours."""
        return self.audio[track.audio_id]

    def end_frame(self) -> int:
        """Return the frame at which the last track ends; 0 without tracks. Raises nothing. Source: ours."""
        return max((track.start_frame + self.audio_of(track).n_frames for track in self.tracks), default=0)
