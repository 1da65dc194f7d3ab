"""The session as pages see it, and the edits they may ask for."""

from typing import Annotated, Literal, Self, TypeVar

from pydantic import BaseModel, ConfigDict, Field, model_validator

from mivlo.core.engine.mix import GroupState, Keeper, LedgerEntry, Mix, Phase, StripState, refuse_twins
from mivlo.core.ensemble.right_of_way import RightOfWay
from mivlo.core.roles import Role

M = TypeVar("M", bound=BaseModel)

__all__ = [
    "AddGroup",
    "AudioState",
    "Dismissed",
    "Edit",
    "EditGroup",
    "EditSession",
    "EditTrack",
    "GroupView",
    "Pin",
    "RemoveGroup",
    "RemoveTrack",
    "Section",
    "SessionState",
    "SessionSummary",
    "Step",
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


class Dismissed(Strict):
    """A place of which the user said that it is not a fault."""

    hz: float = Field(ge=20.0, le=20_000.0)
    wide: bool = False


class Section(Strict):
    """A passage of the song with a name; frames of the session."""

    id: str = Field(max_length=64)
    name: str = Field(min_length=1, max_length=60)
    start_frame: int = Field(ge=0, le=2**40)
    end_frame: int = Field(ge=0, le=2**40)

    @model_validator(mode="after")
    def _ends_after_it_starts(self) -> Self:
        if self.end_frame <= self.start_frame:
            raise ValueError(f"section {self.name} must end (frame {self.end_frame}) after it starts (frame {self.start_frame})")
        return self


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
    """A track as pages see it; tracks with the same twin id share one ledger."""

    name: str
    role: Role
    position: int
    pins: tuple[Pin, ...] = ()
    dismissed: tuple[Dismissed, ...] = ()
    twin_id: str | None = None
    audio: AudioState


class GroupView(GroupState):
    """A group, or the mix, as pages see it."""

    name: str
    position: int
    pins: tuple[Pin, ...] = ()
    dismissed: tuple[Dismissed, ...] = ()


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
    sections: tuple[Section, ...] = ()
    right_of_way: RightOfWay = RightOfWay()
    revision: int
    undo_label: str | None
    redo_label: str | None
    is_demo: bool
    tracks: list[TrackState]
    groups: list[GroupView]
    master: GroupView


class LedgerFields(Strict):
    """The fields that tracks and groups have alike; those left out stay."""

    name: str = Field(default="", min_length=1, max_length=120)
    gain_db: float = Field(default=0.0, ge=-60.0, le=24.0)
    solo: bool = False
    mute: bool = False
    ledger_on: bool = True
    ledger: tuple[LedgerEntry, ...] = Field(default=(), max_length=200)
    phase: Phase = "minimum"
    keepers: tuple[Keeper, ...] = Field(default=(), max_length=100)
    pins: tuple[Pin, ...] = Field(default=(), max_length=500)
    dismissed: tuple[Dismissed, ...] = Field(default=(), max_length=500)

    @model_validator(mode="after")
    def _ids_are_unique(self) -> Self:
        refuse_twins((entry.id for entry in self.ledger), "the entries of a ledger")
        return self


class TrackFields(LedgerFields):
    """The fields of a track that an edit sets; those left out stay."""

    role: Role = "other"
    start_frame: int = Field(default=0, ge=0, le=2**40)
    pan: float = Field(default=0.0, ge=-1.0, le=1.0)
    polarity_flipped: bool = False
    group_id: str | None = Field(default=None, max_length=64)
    twin_id: str | None = Field(default=None, max_length=64)


class EditTrack(Strict):
    """Set some fields of a track."""

    do: Literal["edit-track"] = "edit-track"
    track_id: str
    fields: TrackFields


class EditGroup(Strict):
    """Set some fields of a group, or of the mix."""

    do: Literal["edit-group"] = "edit-group"
    group_id: str
    fields: LedgerFields


class AddGroup(Strict):
    """Make a group; tracks join it by their own field."""

    do: Literal["add-group"] = "add-group"
    group_id: str = Field(pattern="^[0-9a-f]{32}$")
    name: str = Field(min_length=1, max_length=120)


class RemoveGroup(Strict):
    """Dissolve a group: its tracks stay, without it; undo brings it back."""

    do: Literal["remove-group"] = "remove-group"
    group_id: str


class RemoveTrack(Strict):
    """Take a track out of the session; undo brings it back."""

    do: Literal["remove-track"] = "remove-track"
    track_id: str


class EditSession(Strict):
    """Set the session's name, loop, sections or right of way; fields left out stay."""

    do: Literal["edit-session"] = "edit-session"
    name: str = Field(default="", min_length=1, max_length=120)
    loop_start_frame: int | None = Field(default=None, ge=0)
    loop_end_frame: int | None = Field(default=None, ge=0)
    sections: tuple[Section, ...] = Field(default=(), max_length=100)
    right_of_way: RightOfWay = RightOfWay()


Step = EditTrack | RemoveTrack | EditSession | EditGroup | AddGroup | RemoveGroup


class Edit(Strict):
    """One undoable change, made on a revision that the page has seen."""

    base_revision: int
    label: str = Field(min_length=1, max_length=200)
    steps: list[Annotated[Step, Field(discriminator="do")]] = Field(min_length=1, max_length=200)


def session_mix(state: SessionState) -> Mix:
    """Return the mix of a session as it stands, without anybody's way of listening."""
    return Mix(
        tracks=tuple(_plain(track, StripState) for track in state.tracks),
        groups=tuple(_plain(group, GroupState) for group in state.groups),
        master=_plain(state.master, GroupState),
    )


def _plain(view: TrackState | GroupView, model: type[M]) -> M:
    return model.model_validate({name: getattr(view, name) for name in model.model_fields})
