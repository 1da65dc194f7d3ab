"""What the engine is told: tracks with their ledgers and faders, and how the user listens just now."""

from typing import Annotated, Any, Literal, Self

from pydantic import Field, model_validator

from mivlo.core.engine.through import ListenThrough
from mivlo.core.errors import ParameterError
from mivlo.core.kernels import CONTROL_FRAMES
from mivlo.core.model import (
    MIX_ID,
    Frozen,
    Group,
    LedgerEntry,
    Session,
    StripBase,
    Track,
    groups_in_order,
    refuse_twins,
)
from mivlo.core.remembered import remembered

__all__ = [
    "GuardReference",
    "Mix",
    "Probe",
    "Sides",
    "Slice",
    "StandIns",
    "group_by_itself",
    "mix_of_session",
    "raw_sound_of",
    "reshapes",
]


StandIns = Literal["acting", "resting", "left-out"]


def raw_sound_of(state: StripBase) -> tuple[str, int] | None:
    """Return what decides a track's raw sound: which audio, and where it starts; None of a group. Source: ours."""
    return (state.audio_id, state.start_frame) if isinstance(state, Track) else None


class Probe(Frozen):
    """The sweeping audition at one frequency of one track."""

    track_id: str
    kind: Literal["lift", "dip", "only"] = "lift"
    hz: float = Field(ge=20.0, le=20_000.0)
    amount_db: float = Field(default=15.0, ge=1.0, le=30.0)
    width_octaves: float = Field(default=0.25, ge=0.02, le=3.0)


class Slice(Frozen):
    """Hearing only the region of one move."""

    track_id: str
    entry_id: str


class GuardReference(Frozen):
    """What the loop reads without the probe; the guard keeps the probe near it."""

    loudness_lufs: float | None = Field(default=None, ge=-200.0, le=100.0)
    true_peak_db: float | None = Field(default=None, ge=-400.0, le=120.0)


class Sides(Frozen):
    """Another mix beside this one: both are rendered all the while, one of them is heard."""

    other: "Mix"  # of it, tracks, groups and who is heard count; its strips have the ids that they have here
    other_heard: bool = False
    this_db: Annotated[float, Field(ge=-60.0, le=0.0)] = 0.0
    other_db: Annotated[float, Field(ge=-60.0, le=0.0)] = 0.0


class Mix(Frozen):
    """All that decides what is heard. Frames are of the session's rate."""

    tracks: tuple[Track, ...] = Field(default=(), max_length=200)
    groups: tuple[Group, ...] = Field(default=(), max_length=100)
    master: Group = Group(id=MIX_ID)
    alone_track_id: str | None = None
    heard_ids: tuple[str, ...] = Field(
        default=(), max_length=50
    )  # only these tracks and groups, as they are mixed; none: all
    offcuts_track_id: str | None = None
    slice: Slice | None = None
    probe: Probe | None = None
    held_probes: tuple[Probe, ...] = Field(default=(), max_length=8)  # let stand while another one is moved
    guard: GuardReference = GuardReference()
    pipe_hz: float | None = Field(default=None, ge=20.0, le=20_000.0)  # the pitch pipe, where it sounds
    match_db: Annotated[float, Field(ge=-60.0, le=0.0)] = 0.0
    dim: bool = False
    through: ListenThrough = ListenThrough()
    sides: Sides | None = None
    loop_start_frame: int | None = Field(default=None, ge=0, le=2**40)
    loop_end_frame: int | None = Field(default=None, ge=0, le=2**40)

    @model_validator(mode="after")
    def _ids_differ(self) -> Self:
        refuse_twins((strip.id for strip in (*self.tracks, *self.groups, self.master)), "tracks, groups and the mix")
        return self

    @model_validator(mode="after")
    def _goes_in_no_circle(self) -> Self:
        try:
            groups_in_order(self.groups)
        except ParameterError as error:
            raise ValueError(str(error)) from None
        return self

    def probes(self) -> tuple[Probe, ...]:
        """Return all probes that sound."""
        return self.held_probes if self.probe is None else (*self.held_probes, self.probe)

    def loop(self) -> tuple[int, int] | None:
        """Return the loop on the control grid, or None where there is none of at least 50 ms or so."""
        if self.loop_start_frame is None or self.loop_end_frame is None:
            return None
        grid = CONTROL_FRAMES
        start, end = self.loop_start_frame // grid * grid, -(-self.loop_end_frame // grid) * grid
        return (start, end) if end - start >= 32 * grid else None


def reshapes(before: Mix, after: Mix) -> bool:
    """Tell whether a change cannot be made, nor undone, in what was rendered before: another loop, or offcuts.

    Raises nothing. Source: ours.
    """
    with_offcuts = (before.offcuts_track_id, after.offcuts_track_id) != (None, None)
    return with_offcuts or before.loop() != after.loop()


@remembered(8)
def mix_of_session(session: Session, *, stand_ins: StandIns = "left-out") -> Mix:
    """Return the mix of a session as it stands, without anybody's way of listening. Raises nothing. Source: ours.

    Parameters
    ----------
    stand_ins : acting; resting, so that they are there at once when they are wanted; or left out
    """
    stood_in = {group.id for group in session.groups if group.stand_in}

    def part(one: Any) -> Any:
        if stand_ins == "acting" and isinstance(one, Track) and one.later is not None:
            one = one.as_it_came_back.model_copy(
                update={"sends": tuple(send for send in one.sends if send.to_id not in stood_in)}
            )
        ledger, sends = one.ledger, one.sends
        if stand_ins == "resting":
            ledger = tuple(_resting(entry) if entry.move.stand_in else entry for entry in ledger)
        if stand_ins == "left-out":
            ledger = tuple(entry for entry in ledger if not entry.move.stand_in)
            sends = tuple(send for send in sends if send.to_id not in stood_in)
        muted = one.mute or (stand_ins == "resting" and one.id in stood_in)
        return one.heard_part().model_copy(update={"ledger": ledger, "sends": sends, "mute": muted})

    groups = [group for group in session.groups if stand_ins != "left-out" or group.id not in stood_in]
    return Mix(
        tracks=tuple(map(part, session.tracks)), groups=tuple(map(part, groups)), master=part(session.master)
    )  # fmt: skip


def group_by_itself(mix: Mix, group_id: str) -> Mix:
    """Return a mix of which only one group is heard, with its moves and its fader, straight from there. Raises nothing.

    The others stay for moves that listen to them. Source: ours.
    """
    plain = mix.master.model_copy(update={"ledger": (), "gain_db": 0.0})
    outermost = {"group_id": None, "sends": ()}
    groups = tuple(one.model_copy(update=outermost) if one.id == group_id else one for one in mix.groups)
    return mix.model_copy(update={"alone_track_id": group_id, "groups": groups, "master": plain})


def _resting(entry: LedgerEntry) -> LedgerEntry:
    return entry.model_copy(update={"move": entry.move.model_copy(update={"on": False})})
