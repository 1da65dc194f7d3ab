"""Room: what walls give back, added beside the sound."""

from typing import ClassVar, Literal

from pydantic import Field

from mivlo.core.moves.base import BaseMove, Family, Hz, Keepers, Start, check_frequency
from mivlo.core.moves.dynamic import level_db
from mivlo.core.processors.room import MOST_PREDELAY_MS, RoomFigures, RoomSpec

__all__ = ["Room"]


class Room(BaseMove):
    """On a mono track it is mono; on a group that tracks are sent to it may stand alone."""

    label: ClassVar[str] = "Room"
    summary: ClassVar[str] = "What walls give back, added to the sound; alone, on a group that tracks are sent to."
    family: ClassVar[Family] = "space"
    adds_only: ClassVar[bool] = True
    starts: ClassVar[tuple[Start, ...]] = (
        Start("small room", "a few steps wide", {
            "decay_s": 0.4, "predelay_ms": 4.0, "low_cut_hz": 150.0, "damping_hz": 5_000.0, "wet_db": -12.0,
        }),
        Start("plate", "dense and bright at once", {
            "decay_s": 1.6, "predelay_ms": 10.0, "low_cut_hz": 200.0, "damping_hz": 8_000.0, "wet_db": -14.0,
        }),
        Start("hall", "long, and darker as it goes", {
            "decay_s": 2.8, "predelay_ms": 25.0, "low_cut_hz": 150.0, "damping_hz": 4_000.0, "wet_db": -15.0,
        }),
    )  # fmt: skip

    kind: Literal["room"] = "room"
    decay_s: float = Field(
        default=1.2, ge=0.3, le=8.0, title="Decay", json_schema_extra={"unit": "s", "means": "decay"},
        description="until it has fallen by 60 dB, in the middle of the axis, damping off",
    )  # fmt: skip
    wet_db: float = level_db("Level", -60.0, 12.0, default=-14.0)
    predelay_ms: float = Field(
        default=10.0, ge=0.0, le=MOST_PREDELAY_MS, title="Delay",
        json_schema_extra={"unit": "ms", "means": "delay"},
    )  # fmt: skip
    low_cut_hz: Hz | None = Field(
        default=150.0, title="Low cut", json_schema_extra={"unit": "Hz"},
        description="lows below it do not go into the room, 12 dB an octave; empty: all do",
    )  # fmt: skip
    damping_hz: Hz | None = Field(
        default=6_000.0, title="Damping", json_schema_extra={"unit": "Hz"},
        description="there it dies away in half the time, above it sooner still; empty: alike everywhere",
    )  # fmt: skip
    width: float = Field(
        default=100.0, ge=0.0, le=100.0, title="Width", json_schema_extra={"unit": "%", "group": "more"}
    )
    keeps_sound: bool = Field(
        default=True, title="the sound itself stays", json_schema_extra={"group": "more"},
        description="off: only the room is left, for a group that tracks are sent to",
    )  # fmt: skip

    def check_rate(self, sample_rate_hz: float) -> None:
        super().check_rate(sample_rate_hz)
        if self.low_cut_hz is not None:
            check_frequency(self.low_cut_hz, sample_rate_hz, name="low_cut_hz")

    def stage(
        self, key: str, *, on: bool, keepers: Keepers, sample_rate_hz: float, share: float = 1.0
    ) -> RoomSpec:  # fmt: skip
        self.check_rate(sample_rate_hz)
        figures = RoomFigures(
            decay_s=self.decay_s, predelay_ms=self.predelay_ms, low_cut_hz=self.low_cut_hz, damping_hz=self.damping_hz,
            wet_db=self.wet_db, width=self.width / 100.0, only=not self.keeps_sound, on=on, channel=self.channel,
            share=share,
        )  # fmt: skip
        return RoomSpec(key, figures, sample_rate_hz)
