"""What page and monitor say to each other: JSON text both ways, and sound as binary; docs/monitor.md tells the rest."""

import struct
from typing import Annotated, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, TypeAdapter

from mivlo.core.engine.listening import Listening
from mivlo.core.engine.mix import Mix
from mivlo.core.level_match import LevelMatch
from mivlo.core.units import Array

__all__ = [
    "HEADER",
    "Applied",
    "Ended",
    "FromMonitor",
    "FromPage",
    "Gains",
    "Held",
    "Late",
    "Listen",
    "Match",
    "Meter",
    "MoveGain",
    "NonFinite",
    "Play",
    "Problem",
    "Spectra",
    "Stop",
    "from_page",
    "pack_sound",
]

HEADER = struct.Struct("<5d")  # of each piece of sound: epoch, stream frame, session frame, seq, refusals


class Message(BaseModel):
    """No unknown fields, no NaN."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)


class Listen(Message):
    """Listen to a session in some way; `seq` comes back with the first frame that this acts on.

    `revision` is the newest that the page has seen: the monitor plays that one, or a newer one, whoever made it.
    """

    do: Literal["listen"] = "listen"
    seq: int = Field(ge=0, le=2**53)
    session_id: str = Field(max_length=64)
    revision: int = Field(ge=0)
    listening: Listening


class Play(Message):
    """Start (or start anew, which is how one seeks) at a session frame."""

    do: Literal["play"] = "play"
    epoch: int = Field(ge=0, le=2**53)
    at_frame: int = Field(ge=0, le=2**40)
    queue_ms: float = Field(default=60.0, ge=20.0, le=300.0)
    log: bool = False  # tell with each change the whole mix that it made, for a replay
    session_id: str = Field(max_length=64)
    revision: int = Field(ge=0)
    listening: Listening


class Held(Message):
    """How many frames of an epoch the page has played, how often it ran dry, and how many exchanges it has made.

    `spare_frames` were left to be played before the newest exchange when that came.
    """

    do: Literal["held"] = "held"
    epoch: int
    played_frames: int = Field(ge=0)
    underruns: int = Field(ge=0)
    exchanges: int = Field(default=0, ge=0)
    spare_frames: int = Field(default=0, ge=0)


class Late(Message):
    """Sound in exchange for what the page holds came too late: from a stream frame on, where it was playing already.

    It has played `played_frames`, goes on with what it holds, to `held_frames`, and drops all that comes until the
    monitor counts as many `refusals` as it.
    """

    do: Literal["late"] = "late"
    epoch: int
    frame: int = Field(ge=0)
    played_frames: int = Field(ge=0)
    held_frames: int = Field(ge=0)
    refusals: int = Field(ge=1)


class Stop(Message):
    """Stop rendering."""

    do: Literal["stop"] = "stop"


FromPage = Annotated[Play | Listen | Held | Late | Stop, Field(discriminator="do")]
from_page: TypeAdapter[Play | Listen | Held | Late | Stop] = TypeAdapter(FromPage)


class Applied(Message):
    """A change acts from a stream frame (counted from the start of the epoch) on: of listening, of the session, or of
    what was measured. What was told before for later frames is void."""

    type: Literal["applied"] = "applied"
    epoch: int
    seq: int
    revision: int
    frame: int
    mix: Mix | None = None


class Match(Message):
    """What was measured for the level match of how the page listens; None while there is nothing, or not yet."""

    type: Literal["match"] = "match"
    seq: int
    match: LevelMatch | None
    measuring: bool


class Meter(Message):
    """Output level, and how the queue is."""

    type: Literal["meter"] = "meter"
    peak_db: float | None
    momentary_lufs: float | None
    guard_db: float
    correlation: float | None  # of the two sides, -1 to 1
    queue_ms: float
    base_queue_ms: float  # in calm; what a page should ask for when it plays again


class Spectra(Message):
    """The watched track's spectrum just now, untreated and as treated, at the axis' frequencies."""

    type: Literal["spectra"] = "spectra"
    track_id: str
    before_db: list[float]
    after_db: list[float]


class MoveGain(Message):
    """What a dynamic or adaptive move does at the play position: the level that it hears, and its gain.

    Of an adaptive move, `gain_db` is the deepest of its bands, and `bands` tells them all as (Hz, dB).
    """

    entry_id: str
    level_db: float | None
    gain_db: float
    bands: list[tuple[float, float]] = []


class Gains(Message):
    """What the moves of the watched track do just now."""

    type: Literal["gains"] = "gains"
    track_id: str
    moves: list[MoveGain]


class NonFinite(Message):
    """A track's moves came to hold no numbers any more: they were reset, and it was silent for a moment."""

    type: Literal["non-finite"] = "non-finite"
    track_id: str


class Ended(Message):
    """The song is over; nothing more comes for this epoch."""

    type: Literal["ended"] = "ended"
    epoch: int


class Problem(Message):
    """What the page asked for cannot be done; whether play goes on as it was."""

    type: Literal["problem"] = "problem"
    message: str
    playing: bool = False


FromMonitor = Annotated[
    Applied | Match | Meter | Gains | NonFinite | Spectra | Ended | Problem, Field(discriminator="type")
]


def pack_sound(sound: Array, *, epoch: int, stream_frame: int, position: int, seq: int, refusals: int = 0) -> bytes:
    """Return (2, n) behind its header: 2·n little-endian float32, the left channel first."""
    return (
        HEADER.pack(epoch, stream_frame, position, seq, refusals) + np.ascontiguousarray(sound, dtype="<f4").tobytes()
    )
