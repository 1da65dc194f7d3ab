"""References: mixes of others that are kept with a session to be heard beside it; they are never in its mix."""

from pydantic import Field

from mivlo.core.model.base import Frozen, Name
from mivlo.core.model.strips import Track

__all__ = ["Reference"]


class Reference(Frozen):
    """A mix of somebody else; `start_frame` is where in the session its beginning is heard, also before the start."""

    id: str = Field(max_length=64)
    name: Name = Field(default="Reference", min_length=1, max_length=120)
    audio_id: str = Field(max_length=64)
    start_frame: int = Field(default=0, ge=-(2**40), le=2**40)

    @property
    def as_track(self) -> Track:
        """Return it as a track by itself: so it is listened to, and looked at. Raises nothing. Source: ours."""
        return Track(
            id=self.id, name=self.name, role="full backing", audio_id=self.audio_id, start_frame=self.start_frame
        )
