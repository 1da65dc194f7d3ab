"""What every dynamic move is: a filter whose gain follows the level of what it listens to."""

from abc import abstractmethod
from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from mivlo.core.filters.biquad import Biquad, frequency_response
from mivlo.core.moves.base import BaseMove, Family, Hz, Keepers, PlaceHz, check_frequency, slice_bell
from mivlo.core.moves.capabilities import FollowsLevel, Listens, Placed, Sliced
from mivlo.core.processors.dynamic import Blend, DynamicFigures, DynamicSpec, GainTable, Trigger
from mivlo.core.units import Array, db_to_gain

__all__ = ["DynamicMove", "level_db"]

STRIDE_BELOW = 8.0  # of the rate: below it, every second frame tells the level as well
LEAST_FULL_DB = 0.5  # of a move that does nothing: the filter must be some filter


def level_db(title: str, low: float, high: float, **extra: Any) -> Any:
    """Return a field of a level or gain in dB."""
    default = extra.pop("default")
    return Field(default=default, ge=low, le=high, title=title, json_schema_extra={"unit": "dB", **extra})


class DynamicMove(BaseMove, Placed, FollowsLevel, Sliced, Listens):
    """Rests at rest_db; goes towards depth_db (signed) as the level of what it listens to goes over threshold_db."""

    family: ClassVar[Family] = "dynamic"
    scaled: ClassVar[tuple[str, ...]] = ("depth_db", "rest_db")

    hz: PlaceHz
    depth_db: float = level_db("Depth", -24.0, 24.0, default=-6.0, means="gain")
    threshold_db: float = Field(
        default=-30.0, ge=-90.0, le=6.0, title="Threshold", json_schema_extra={"unit": "dBFS", "meter": "level"}
    )
    trigger: Trigger = Field(
        default="above", title="Acts",
        description="above: while the level is over the threshold; after-stroke: on what rings on after each stroke; "
        "sudden: on bursts that rise at once, never on notes",
    )  # fmt: skip
    stroke_ms: float = Field(
        default=60.0, ge=5.0, le=500.0, title="Stroke lasts",
        json_schema_extra={"unit": "ms", "when": "trigger=after-stroke"},
    )  # fmt: skip
    attack_ms: float = Field(default=8.0, ge=0.1, le=500.0, title="Attack", json_schema_extra={"unit": "ms"})
    release_ms: float = Field(default=120.0, ge=1.0, le=3_000.0, title="Release", json_schema_extra={"unit": "ms"})
    ratio: float = Field(
        default=4.0, ge=1.0, le=100.0, title="Ratio", json_schema_extra={"unit": ":1", "group": "more"}
    )
    knee_db: float = level_db("Knee", 0.0, 24.0, default=4.0, group="more")
    lookahead_ms: float = Field(
        default=0.0, ge=0.0, le=50.0, title="Look-ahead", json_schema_extra={"unit": "ms", "group": "more"}
    )
    rest_db: float = level_db("Resting gain", -24.0, 24.0, default=0.0, group="more")
    detection: Literal["peak", "rms"] = Field(default="rms", title="Detection", json_schema_extra={"group": "more"})
    listens_to: str = Field(
        default="", max_length=64, title="Listens to", json_schema_extra={"control": "listens", "means": "key"},
        description="id of a track or group, heard before its own moves; empty: itself",
    )  # fmt: skip
    listens_after_fader: bool = Field(
        default=False, title="after its fader", json_schema_extra={"group": "key"},
        description="whether the other track's fader counts in what is heard",
    )  # fmt: skip
    key_hz: Hz | None = Field(
        default=None, title="Listens at", json_schema_extra={"unit": "Hz", "group": "key", "empty": "own band"},
        description="centre of the band that it listens to; left out: the band that it acts on",
    )  # fmt: skip
    key_q: float = Field(
        default=1.0,
        ge=0.1,
        le=30.0,
        title="Listening Q",
        json_schema_extra={"unit": "Q", "group": "key", "when": "key_hz"},
    )

    @property
    def place_hz(self) -> float:
        return self.hz

    @property
    def heard_id(self) -> str:
        return self.listens_to

    @property
    def extent_db(self) -> float:
        return self.rest_db + self.depth_db

    @abstractmethod
    def sections_at(self, gain_db: float, sample_rate_hz: float) -> tuple[Biquad, ...]:
        """Return the filter at a gain other than 0 dB."""

    @abstractmethod
    def own_band(self, sample_rate_hz: float) -> tuple[Biquad, Biquad]:
        """Return the filter that lets through what it acts on."""

    @property
    @abstractmethod
    def band_low_hz(self) -> float:
        """Return the frequency whose period the level detector waits for: the lowest that counts in its own band."""

    def slice_sections(self, sample_rate_hz: float) -> tuple[Biquad, ...]:
        return self.own_band(sample_rate_hz)

    def check_rate(self, sample_rate_hz: float) -> None:
        super().check_rate(sample_rate_hz)
        if self.key_hz is not None:
            check_frequency(self.key_hz, sample_rate_hz, name="key_hz")

    def response(self, freqs_hz: Array, sample_rate_hz: float) -> NDArray[np.complex128]:
        self.check_rate(sample_rate_hz)
        return self.response_at(self.extent_db, freqs_hz, sample_rate_hz)

    def response_at(self, gain_db: float, freqs_hz: Array, sample_rate_hz: float) -> NDArray[np.complex128]:
        """Return the (bins,) response while the move stands at a gain.

        Source: ours; 1 + w·(H - 1), H at the full extent. Of a bell that is a bell again, exact at its centre:
        (s² + s·K·k + 1)/(s² + s·k + 1), and its filter stands still while its gain moves, so nothing can crackle.
        """
        full_db = self._full_db()
        h = frequency_response(self.sections_at(full_db, sample_rate_hz), freqs_hz, sample_rate_hz=sample_rate_hz)
        weight = (db_to_gain(gain_db) - 1.0) / (db_to_gain(full_db) - 1.0)
        return np.asarray(1.0 + weight * (h - 1.0))

    def _full_db(self) -> float:
        """Return the gain of the two between which it moves that is further from 0 dB."""
        full_db = max(self.rest_db, self.rest_db + self.depth_db, key=abs)
        return full_db if abs(full_db) >= LEAST_FULL_DB else float(np.copysign(LEAST_FULL_DB, full_db))

    def shape(self, sample_rate_hz: float) -> Blend | GainTable:
        """Return what the stage runs."""
        full_db = self._full_db()
        return Blend(self.sections_at(full_db, sample_rate_hz), full_db)

    def detector(self, sample_rate_hz: float) -> tuple[Biquad, ...]:
        """Return the sections through which its own level is measured; of a blend, behind what it takes away."""
        return self.own_band(sample_rate_hz)[:1]

    def stride(self, sample_rate_hz: float) -> int:
        """Return how many frames apart the level of its own band may be taken."""
        return 2 if self.band_low_hz < sample_rate_hz / STRIDE_BELOW else 1

    def stage(
        self, key: str, *, on: bool, keepers: Keepers, sample_rate_hz: float, share: float = 1.0
    ) -> DynamicSpec:  # fmt: skip
        self.check_rate(sample_rate_hz)
        if self.listens_to or self.key_hz is not None:
            key_hz = self.key_hz or self.hz
            detector: tuple[Biquad, ...] = (
                self.own_band(sample_rate_hz) if self.key_hz is None else slice_bell(key_hz, self.key_q, sample_rate_hz)
            )
            low_hz, stride = self.band_low_hz if self.key_hz is None else key_hz, 1
        else:
            low_hz, stride = self.band_low_hz, self.stride(sample_rate_hz)
            detector = self.detector(sample_rate_hz / stride)
        figures = self._figures(low_hz, on=on)
        return DynamicSpec(key, figures, detector, stride, self.shape(sample_rate_hz), sample_rate_hz)

    def _figures(self, detector_hz: float, *, on: bool) -> DynamicFigures:
        return DynamicFigures(
            threshold_db=self.threshold_db, ratio=self.ratio, knee_db=self.knee_db, depth_db=self.depth_db,
            rest_db=self.rest_db, attack_ms=self.attack_ms, release_ms=self.release_ms, lookahead_ms=self.lookahead_ms,
            rms=self.detection == "rms", trigger=self.trigger, stroke_ms=self.stroke_ms, listens_to=self.listens_to,
            listens_after_fader=self.listens_after_fader, detector_hz=detector_hz, on=on, channel=self.channel,
        )  # fmt: skip
