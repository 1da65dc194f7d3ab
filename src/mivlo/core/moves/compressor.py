"""Compressor: turns the whole sound down while it is loud, or puts a copy treated so beside it."""

from typing import ClassVar, Literal, Self

from pydantic import Field, model_validator

from mivlo.core.filters.biquad import Biquad
from mivlo.core.filters.matched import plain_cut
from mivlo.core.moves.base import BaseMove, Family, Hz, Keepers, Start, check_frequency
from mivlo.core.moves.capabilities import Listens
from mivlo.core.moves.dynamic import level_db
from mivlo.core.processors.broad import Broad
from mivlo.core.processors.dynamic import DynamicFigures, DynamicSpec
from mivlo.core.units import db_to_gain

__all__ = ["Compressor"]

DETECTOR_HZ = 100.0  # whose period the level waits for: 10 ms tell a level apart from the waves of all but the lowest
WIRE = Biquad(1.0, 0.0, 0.0, 0.0, 0.0)
BESIDE = "placing=beside"


class Compressor(BaseMove, Listens):
    """In line, or beside the sound; both channels get the same gain, and make-up is never automatic."""

    label: ClassVar[str] = "Compressor"
    summary: ClassVar[str] = "Turns the whole sound down while it is loud; or puts a copy treated so beside it."
    family: ClassVar[Family] = "dynamic"
    scaled: ClassVar[tuple[str, ...]] = ("makeup_db",)
    starts: ClassVar[tuple[Start, ...]] = (
        Start("gentle", "strings and plucks", {
            "threshold_db": -26.0, "ratio": 2.0, "knee_db": 8.0, "attack_ms": 25.0, "release_ms": 180.0,
            "range_db": 8.0, "makeup_db": 3.0, "placing": "in-line",
        }),
        Start("firm", "a voice that is to stay in front", {
            "threshold_db": -30.0, "ratio": 4.0, "knee_db": 6.0, "attack_ms": 6.0, "release_ms": 90.0,
            "range_db": 14.0, "makeup_db": 6.0, "key_low_cut_hz": 100.0, "placing": "in-line",
        }),
        Start("crushed beside", "a flattened copy, its harsh band held back", {
            "threshold_db": -42.0, "ratio": 20.0, "knee_db": 4.0, "attack_ms": 1.0, "release_ms": 120.0,
            "range_db": 30.0, "makeup_db": 12.0, "placing": "beside", "beside_db": -6.0, "beside_high_hz": 2_500.0,
        }),
    )  # fmt: skip

    kind: Literal["compressor"] = "compressor"
    threshold_db: float = Field(
        default=-24.0, ge=-90.0, le=6.0, title="Threshold", json_schema_extra={"unit": "dBFS", "meter": "level"}
    )
    ratio: float = Field(default=3.0, ge=1.0, le=100.0, title="Ratio", json_schema_extra={"unit": ":1"})
    attack_ms: float = Field(default=10.0, ge=0.1, le=500.0, title="Attack", json_schema_extra={"unit": "ms"})
    release_ms: float = Field(default=120.0, ge=1.0, le=3_000.0, title="Release", json_schema_extra={"unit": "ms"})
    makeup_db: float = level_db("Make-up", -24.0, 36.0, default=0.0)
    placing: Literal["in-line", "beside"] = Field(
        default="in-line", title="Stands",
        description="in-line: in place of the sound; beside: a copy treated so is added to the sound",
    )  # fmt: skip
    beside_db: float = level_db("Copy at", -60.0, 12.0, default=-6.0, when=BESIDE)
    beside_low_hz: Hz | None = Field(
        default=None, title="Copy from", json_schema_extra={"unit": "Hz", "when": BESIDE, "empty": "all lows"},
        description="below it the copy is left out, 12 dB an octave; empty: down to the lowest",
    )  # fmt: skip
    beside_high_hz: Hz | None = Field(
        default=None, title="Copy to", json_schema_extra={"unit": "Hz", "when": BESIDE, "empty": "all highs"},
        description="above it the copy is left out, 12 dB an octave; empty: up to the highest",
    )  # fmt: skip
    knee_db: float = level_db("Knee", 0.0, 24.0, default=6.0, group="more")
    range_db: float = Field(
        default=40.0, ge=0.0, le=60.0, title="Range", json_schema_extra={"unit": "dB", "group": "more"},
        description="at most so much is taken away",
    )  # fmt: skip
    lookahead_ms: float = Field(
        default=0.0, ge=0.0, le=50.0, title="Look-ahead", json_schema_extra={"unit": "ms", "group": "more"}
    )
    detection: Literal["peak", "rms"] = Field(default="rms", title="Detection", json_schema_extra={"group": "more"})
    listens_to: str = Field(
        default="", max_length=64, title="Listens to", json_schema_extra={"control": "listens", "means": "key"},
        description="id of a track or group, heard before its own moves; empty: itself",
    )  # fmt: skip
    key_low_cut_hz: Hz | None = Field(
        default=None, title="Listens from", json_schema_extra={"unit": "Hz", "group": "more", "empty": "all lows"},
        description="lows below it do not count in the level, 12 dB an octave; empty: all count",
    )  # fmt: skip

    @model_validator(mode="after")
    def _copy_has_a_band(self) -> Self:
        low_hz, high_hz = self.beside_low_hz, self.beside_high_hz
        if low_hz is not None and high_hz is not None and high_hz < 1.25 * low_hz:
            raise ValueError(f"beside_high_hz={high_hz:g} must be at least 1.25 times beside_low_hz={low_hz:g}")
        return self

    @property
    def heard_id(self) -> str:
        return self.listens_to

    @property
    def takes_away(self) -> bool:
        return self.placing == "in-line"

    def at_amount(self, amount: float) -> Self:
        return super().at_amount(amount if self.placing == "in-line" else 1.0)

    def check_rate(self, sample_rate_hz: float) -> None:
        super().check_rate(sample_rate_hz)
        for name in ("key_low_cut_hz", "beside_low_hz", "beside_high_hz"):
            hz = getattr(self, name)
            if hz is not None:
                check_frequency(hz, sample_rate_hz, name=name)

    def stage(
        self, key: str, *, on: bool, keepers: Keepers, sample_rate_hz: float, share: float = 1.0
    ) -> DynamicSpec:  # fmt: skip
        self.check_rate(sample_rate_hz)
        detector: tuple[Biquad, ...] = (WIRE,)
        if self.key_low_cut_hz is not None:
            detector = plain_cut(self.key_low_cut_hz, 2, high_pass=True, sample_rate_hz=sample_rate_hz)
        figures = DynamicFigures(
            threshold_db=self.threshold_db, ratio=self.ratio, knee_db=self.knee_db, depth_db=-self.range_db,
            rest_db=0.0, attack_ms=self.attack_ms, release_ms=self.release_ms, lookahead_ms=self.lookahead_ms,
            rms=self.detection == "rms", trigger="above", stroke_ms=0.0, listens_to=self.listens_to,
            listens_after_fader=False, detector_hz=DETECTOR_HZ, on=on, channel=self.channel,
            share=share if self.placing == "in-line" else 1.0,
        )  # fmt: skip
        return DynamicSpec(key, figures, detector, 1, self._broad(on, share, sample_rate_hz), sample_rate_hz)

    def _broad(self, on: bool, share: float, sample_rate_hz: float) -> Broad:
        makeup = db_to_gain(self.makeup_db)
        if self.placing == "in-line":
            return Broad(0.0, makeup if on else 1.0)
        ends = (("low", self.beside_low_hz, True), ("high", self.beside_high_hz, False))
        limits = tuple(
            (name, plain_cut(hz, 2, high_pass=high_pass, sample_rate_hz=sample_rate_hz)[0])
            for name, hz, high_pass in ends
            if hz is not None
        )
        return Broad(1.0, makeup * db_to_gain(self.beside_db) * share if on else 0.0, limits)
