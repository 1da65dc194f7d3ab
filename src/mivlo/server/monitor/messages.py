"""What page and monitor say to each other: JSON text both ways, and sound as binary."""

import json
import struct
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, TypeAdapter

from mivlo.core.engine.mix import Mix, StripState
from mivlo.core.units import Array

__all__ = [
    "Applied", "Blown", "Ended", "FromPage", "Gains", "Held", "Meter", "MoveGain", "Play", "Problem", "Reader", "SetMix",
    "Spectra", "Stop", "from_page", "pack_sound",
]  # fmt: skip


class Message(BaseModel):
    """No unknown fields, no NaN."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)


class Play(Message):
    """Start (or start anew, which is how one seeks) at a session frame."""

    do: Literal["play"] = "play"
    epoch: int = Field(ge=0)
    at_frame: int = Field(ge=0, le=2**40)
    sample_rate_hz: int = Field(ge=44_100, le=96_000)
    queue_ms: float = Field(default=36.0, ge=20.0, le=300.0)
    watch_track_id: str | None = None
    mix: Mix


class SetMix(Message):
    """Go on with another mix; `seq` comes back with the first frame that it acts on."""

    do: Literal["mix"] = "mix"
    seq: int = Field(ge=0)
    watch_track_id: str | None = None
    mix: Mix


class Held(Message):
    """How many frames of an epoch the page has played, and how often it ran dry."""

    do: Literal["held"] = "held"
    epoch: int
    played_frames: int = Field(ge=0)
    underruns: int = Field(ge=0)


class Stop(Message):
    """Stop rendering."""

    do: Literal["stop"] = "stop"


FromPage = Annotated[Play | SetMix | Held | Stop, Field(discriminator="do")]
from_page: TypeAdapter[Play | SetMix | Held | Stop] = TypeAdapter(FromPage)


class Reader:
    """Reads the messages of one page: a track that is word for word as in the mix before is not validated anew."""

    def __init__(self) -> None:
        self._known: dict[str, tuple[object, StripState]] = {}  # as it was told, and what it was read as

    def read(self, text: str) -> Play | SetMix | Held | Stop:
        """Return a message.

        Raises
        ------
        ValidationError: it is no message, or says something out of range
        """
        try:
            told = json.loads(text)
            tracks = told["mix"]["tracks"]
            told["mix"]["tracks"] = [self._as_before(track) for track in tracks]
        except (ValueError, TypeError, KeyError, RecursionError):
            return from_page.validate_json(text)
        message = from_page.validate_python(told)
        if isinstance(message, Play | SetMix):
            self._known = {track.id: (raw, track) for raw, track in zip(tracks, message.mix.tracks, strict=True)}
        return message

    def _as_before(self, track: Any) -> Any:
        raw, known = self._known.get(track["id"], (None, None))
        return known if raw == track else track


class Applied(Message):
    """A mix acts from a stream frame (counted from the start of the epoch) on."""

    say: Literal["applied"] = "applied"
    epoch: int
    seq: int
    frame: int


class Meter(Message):
    """Output level, and how the queue is."""

    say: Literal["meter"] = "meter"
    peak_db: float | None
    momentary_lufs: float | None
    guard_db: float
    queue_ms: float
    base_queue_ms: float


class Spectra(Message):
    """The watched track's spectrum just now, untreated and as treated, at the axis' frequencies."""

    say: Literal["spectra"] = "spectra"
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

    say: Literal["gains"] = "gains"
    track_id: str
    moves: list[MoveGain]


class Blown(Message):
    """A track's moves came to hold no numbers any more: they were reset, and it was silent for a moment."""

    say: Literal["blown"] = "blown"
    track_id: str


class Ended(Message):
    """The song is over; nothing more comes for this epoch."""

    say: Literal["ended"] = "ended"
    epoch: int


class Problem(Message):
    """What the page asked for cannot be played."""

    say: Literal["problem"] = "problem"
    message: str


def pack_sound(sound: Array, *, epoch: int, stream_frame: int, position: int, seq: int) -> bytes:
    """Return (2, n) as four little-endian float64 (epoch, stream frame, session frame, seq) and 2·n float32."""
    return struct.pack("<4d", epoch, stream_frame, position, seq) + np.ascontiguousarray(sound, dtype="<f4").tobytes()
