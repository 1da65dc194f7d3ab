"""The session as pages see it, and the edits they may ask for."""

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

from mivlo.core.engine.mix import LedgerEntry, Mix, StripState
from mivlo.core.roles import Role

__all__ = [
    "AudioState",
    "Edit",
    "EditSession",
    "EditTrack",
    "Pin",
    "RemoveTrack",
    "SessionState",
    "SessionSummary",
    "TrackFields",
    "TrackState",
    "session_mix",
]  # fmt: skip


class Strict(BaseModel):
    """No unknown fields, no NaN."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)


class Pin(Strict):
    """A mark dropped during a probe, to be judged afterwards."""

    id: str = Field(max_length=64)
    hz: float = Field(ge=20.0, le=20_000.0)
    width_octaves: float = Field(default=0.25, ge=0.02, le=3.0)
    excess_db: float | None = None


class AudioState(Strict):
    """What a track's file is."""

    id: str
    original_name: str
    format: str
    subtype: str
    original_rate_hz: int
    original_frames: int
    n_channels: int
    n_frames: int


class TrackState(StripState):
    """A track as pages see it."""

    name: str
    role: Role
    position: int
    pins: tuple[Pin, ...] = ()
    audio: AudioState


class SessionSummary(Strict):
    """A line of the list of sessions."""

    id: str
    name: str
    sample_rate_hz: int
    n_tracks: int
    is_demo: bool


class SessionState(Strict):
    """The whole session at one revision."""

    id: str
    name: str
    sample_rate_hz: int
    loop_start_frame: int | None
    loop_end_frame: int | None
    revision: int
    undo_label: str | None
    redo_label: str | None
    is_demo: bool
    tracks: list[TrackState]


class TrackFields(Strict):
    """The fields of a track that an edit sets; those left out stay."""

    name: str = Field(default="", min_length=1, max_length=120)
    role: Role = "other"
    start_frame: int = Field(default=0, ge=0, le=2**40)
    gain_db: float = Field(default=0.0, ge=-60.0, le=24.0)
    pan: float = Field(default=0.0, ge=-1.0, le=1.0)
    polarity_flipped: bool = False
    solo: bool = False
    mute: bool = False
    ledger_on: bool = True
    ledger: tuple[LedgerEntry, ...] = Field(default=(), max_length=200)
    pins: tuple[Pin, ...] = Field(default=(), max_length=500)

    @model_validator(mode="after")
    def _ids_are_unique(self) -> "TrackFields":
        ids = [entry.id for entry in self.ledger]
        if len(set(ids)) != len(ids):
            raise ValueError("ledger: two entries have the same id")
        return self


class EditTrack(Strict):
    """Set some fields of a track."""

    do: Literal["edit-track"] = "edit-track"
    track_id: str
    fields: TrackFields


class RemoveTrack(Strict):
    """Take a track out of the session; undo brings it back."""

    do: Literal["remove-track"] = "remove-track"
    track_id: str


class EditSession(Strict):
    """Set the session's name or loop; fields left out stay."""

    do: Literal["edit-session"] = "edit-session"
    name: str = Field(default="", min_length=1, max_length=120)
    loop_start_frame: int | None = Field(default=None, ge=0)
    loop_end_frame: int | None = Field(default=None, ge=0)


class Edit(Strict):
    """One undoable change, made on a revision that the page has seen."""

    base_revision: int
    label: str = Field(min_length=1, max_length=200)
    steps: list[Annotated[EditTrack | RemoveTrack | EditSession, Field(discriminator="do")]] = Field(
        min_length=1, max_length=200
    )


def session_mix(state: SessionState) -> Mix:
    """Return the mix of a session as it stands, without anybody's way of listening."""
    names = set(StripState.model_fields)
    return Mix(tracks=tuple(StripState(**{name: getattr(track, name) for name in names}) for track in state.tracks))
