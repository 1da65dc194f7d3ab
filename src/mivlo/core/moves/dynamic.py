"""What every dynamic move is: a filter whose gain follows the level of what it listens to."""

from abc import abstractmethod
from functools import lru_cache
from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from mivlo.core.filters.biquad import Biquad, frequency_response, state_variable_form
from mivlo.core.moves.base import BaseMove, Family, Hz, Keepers, check_frequency, slice_bell
from mivlo.core.processors.dynamic import TABLE_STEP_DB, DynamicFigures, DynamicSpec, GainTable, Trigger
from mivlo.core.units import Array

__all__ = ["DynamicMove", "level_db"]

ALMOST_REST_DB = 0.01
SHAPE_FIGURES = ("hz", "q", "slope_db_per_octave")


def level_db(title: str, low: float, high: float, **extra: Any) -> Any:
    """Return a field of a level or gain in dB."""
    default = extra.pop("default")
    return Field(default=default, ge=low, le=high, title=title, json_schema_extra={"unit": "dB", **extra})



class DynamicMove(BaseMove):
    """Rests at rest_db; goes towards depth_db (signed) as the level of what it listens to goes over threshold_db."""

    family: ClassVar[Family] = "dynamic"

    hz: Hz
    depth_db: float = level_db("Depth", -24.0, 24.0, default=-6.0)
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
    ratio: float = Field(default=4.0, ge=1.0, le=100.0, title="Ratio", json_schema_extra={"unit": ":1", "group": "more"})
    knee_db: float = level_db("Knee", 0.0, 24.0, default=4.0, group="more")
    lookahead_ms: float = Field(default=0.0, ge=0.0, le=50.0, title="Look-ahead", json_schema_extra={"unit": "ms", "group": "more"})
    rest_db: float = level_db("Resting gain", -24.0, 24.0, default=0.0, group="more")
    detection: Literal["peak", "rms"] = Field(default="rms", title="Detection", json_schema_extra={"group": "more"})
    listens_to: str = Field(
        default="", max_length=64, title="Listens to", json_schema_extra={"control": "listens"},
        description="id of a track or group, heard before its own moves; empty: itself",
    )  # fmt: skip
    listens_after_fader: bool = Field(
        default=False, title="after its fader", json_schema_extra={"group": "key"},
        description="whether the other track's fader counts in what is heard",
    )  # fmt: skip
    key_hz: Hz | None = Field(
        default=None, title="Listens at", json_schema_extra={"unit": "Hz", "group": "key"},
        description="centre of the band that it listens to; left out: the band that it acts on",
    )  # fmt: skip
    key_q: float = Field(
        default=1.0, ge=0.1, le=30.0, title="Listening Q", json_schema_extra={"unit": "Q", "group": "key", "when": "key_hz"}
    )

    @property
    def place_hz(self) -> float:
        return self.hz

    @abstractmethod
    def sections_at(self, gain_db: float, sample_rate_hz: float) -> tuple[Biquad, ...]:
        """Return the filter at a gain other than 0 dB; the same number of sections at every gain."""

    @abstractmethod
    def own_band(self, sample_rate_hz: float) -> tuple[Biquad, Biquad]:
        """Return the filter through which its own level is measured."""

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
        return self.response_at(self.rest_db + self.depth_db, freqs_hz, sample_rate_hz)

    def response_at(self, gain_db: float, freqs_hz: Array, sample_rate_hz: float) -> NDArray[np.complex128]:
        """Return the (bins,) response while the move stands at a gain."""
        if gain_db == 0.0:
            return np.ones(freqs_hz.shape, dtype=np.complex128)
        return frequency_response(self.sections_at(gain_db, sample_rate_hz), freqs_hz, sample_rate_hz=sample_rate_hz)

    def stage(
        self, key: str, *, on: bool, keepers: Keepers, sample_rate_hz: float
    ) -> DynamicSpec:
        self.check_rate(sample_rate_hz)
        if self.key_hz is None:
            detector, low_hz = self.own_band(sample_rate_hz), self.band_low_hz
        else:
            detector, low_hz = slice_bell(self.key_hz, self.key_q, sample_rate_hz), self.key_hz
        return DynamicSpec(key, self._figures(low_hz, on=on), detector, _table(self, sample_rate_hz), sample_rate_hz)

    def _figures(self, detector_hz: float, *, on: bool) -> DynamicFigures:
        return DynamicFigures(
            threshold_db=self.threshold_db, ratio=self.ratio, knee_db=self.knee_db, depth_db=self.depth_db,
            rest_db=self.rest_db, attack_ms=self.attack_ms, release_ms=self.release_ms, lookahead_ms=self.lookahead_ms,
            rms=self.detection == "rms", trigger=self.trigger, stroke_ms=self.stroke_ms, listens_to=self.listens_to,
            listens_after_fader=self.listens_after_fader, detector_hz=detector_hz, on=on, channel=self.channel,
        )  # fmt: skip


def _table(move: DynamicMove, sample_rate_hz: float) -> GainTable:
    """Return the table of a move; what only decides when it acts does not make it another one."""
    ends = (0.0, move.rest_db, move.rest_db + move.depth_db)
    figures = {name: getattr(move, name) for name in SHAPE_FIGURES if hasattr(move, name)}
    shape = type(move).model_construct(**figures)
    return _shape_table(shape, float(np.floor(min(ends))), float(np.ceil(max(ends))), sample_rate_hz)


@lru_cache(maxsize=1024)
def _shape_table(move: DynamicMove, lowest_db: float, highest_db: float, sample_rate_hz: float) -> GainTable:
    highest_db = max(highest_db, lowest_db + TABLE_STEP_DB)
    gains_db = np.arange(lowest_db, highest_db + TABLE_STEP_DB / 2.0, TABLE_STEP_DB)
    rows = []
    for gain_db in gains_db:
        at_rest = gain_db == 0.0
        toward = -ALMOST_REST_DB if lowest_db < 0.0 else ALMOST_REST_DB
        sections = move.sections_at(toward if at_rest else float(gain_db), sample_rate_hz)
        forms = np.array([state_variable_form(section) for section in sections])
        if at_rest:
            forms[:, 2:] = (1.0, 0.0, 0.0)  # a wire, whatever its states: transparent to the bit
        rows.append(forms)
    return GainTable(lowest_db, np.array(rows))
