"""What the engine is told: tracks with their ledgers and faders, and how the user listens just now."""

from collections.abc import Mapping
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field

from mivlo.core.moves import Move

__all__ = ["GuardReference", "LedgerEntry", "Mix", "Probe", "Slice", "StripState", "audible_tracks"]

GRID = 64  # the control grid of the kernels; tests hold the two equal


class Frozen(BaseModel):
    """A frozen model that takes no unknown fields and no NaN."""

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)


class LedgerEntry(Frozen):
    """One move of a ledger; `id` says which move it stays while its figures change."""

    id: str = Field(max_length=64)
    move: Move
    reason: str = Field(default="", max_length=500)


class StripState(Frozen):
    """One track as the engine needs it."""

    id: str = Field(max_length=64)
    audio_id: str = Field(max_length=64)
    start_frame: int = Field(default=0, ge=0, le=2**40)
    gain_db: float = Field(default=0.0, ge=-60.0, le=24.0)
    pan: float = Field(default=0.0, ge=-1.0, le=1.0)
    polarity_flipped: bool = False
    solo: bool = False
    mute: bool = False
    ledger_on: bool = True
    ledger: tuple[LedgerEntry, ...] = Field(default=(), max_length=200)


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

    loudness_lufs: float | None = None
    true_peak_db: float | None = None


class Mix(Frozen):
    """All that decides what is heard. Frames are of the session's rate."""

    tracks: tuple[StripState, ...] = Field(default=(), max_length=200)
    alone_track_id: str | None = None
    offcuts_track_id: str | None = None
    slice: Slice | None = None
    probe: Probe | None = None
    guard: GuardReference = GuardReference()
    match_db: Annotated[float, Field(ge=-60.0, le=0.0)] = 0.0
    dim: bool = False
    loop_start_frame: int | None = Field(default=None, ge=0)
    loop_end_frame: int | None = Field(default=None, ge=0)

    def loop(self) -> tuple[int, int] | None:
        """Return the loop on the control grid, or None where there is none of at least 50 ms or so."""
        if self.loop_start_frame is None or self.loop_end_frame is None:
            return None
        start, end = self.loop_start_frame // GRID * GRID, -(-self.loop_end_frame // GRID) * GRID
        return (start, end) if end - start >= 32 * GRID else None


def audible_tracks(mix: Mix) -> Mapping[str, bool]:
    """Return which tracks are heard: the one that is listened to alone, else the soloed, else all; muted ones never."""
    if mix.alone_track_id is not None:
        return {track.id: track.id == mix.alone_track_id for track in mix.tracks}
    any_solo = any(track.solo for track in mix.tracks)
    return {track.id: not track.mute and (track.solo or not any_solo) for track in mix.tracks}
