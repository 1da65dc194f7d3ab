"""Dynamic low cut: a low cut that is open, and slides up only while the lows are loud."""

from functools import lru_cache
from typing import ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from mivlo.core.filters.biquad import Biquad, frequency_response, state_variable_form
from mivlo.core.filters.matched import plain_cut
from mivlo.core.moves.base import Start
from mivlo.core.moves.dynamic import DynamicMove, level_db
from mivlo.core.processors.dynamic import TABLE_STEP_DB, GainTable
from mivlo.core.units import Array

__all__ = ["DynamicLowCut"]

ALMOST_OPEN_DB = 0.05  # where the states of the open cut stand


class DynamicLowCut(DynamicMove):
    """A Butterworth low cut whose corner slides: an octave below hz it takes away as much as the gain says."""

    label: ClassVar[str] = "Dynamic low cut"
    summary: ClassVar[str] = "A low cut that is open, and slides up only while the lows are loud or burst."
    starts: ClassVar[tuple[Start, ...]] = (
        Start(
            "plosive",
            "p and b: bursts only, sung low notes stay",
            {
                "hz": 150.0,
                "slope_db_per_octave": 24,
                "depth_db": -18.0,
                "threshold_db": -30.0,
                "ratio": 20.0,
                "knee_db": 2.0,
                "attack_ms": 3.0,
                "release_ms": 60.0,
                "lookahead_ms": 46.0,
                "trigger": "sudden",
                "detection": "peak",
            },
        ),
        Start(
            "when loud",
            "clears lows that swell in the loud moments",
            {
                "depth_db": -12.0,
                "ratio": 6.0,
                "knee_db": 6.0,
                "attack_ms": 20.0,
                "release_ms": 250.0,
                "lookahead_ms": 5.0,
                "trigger": "above",
                "detection": "rms",
            },
        ),
    )

    clears_away: ClassVar[bool] = True
    scaled: ClassVar[tuple[str, ...]] = ()
    kind: Literal["dynamic-low-cut"] = "dynamic-low-cut"
    slope_db_per_octave: Literal[12, 24, 36] = Field(
        default=24, title="Slope", json_schema_extra={"unit": "dB/octave", "means": "slope"}
    )
    depth_db: float = level_db("Depth", -36.0, -1.0, default=-18.0, means="gain")
    rest_db: float = level_db("Resting gain", -24.0, 0.0, default=0.0, group="more")

    @property
    def band_low_hz(self) -> float:
        return max(self.hz / 2.0, 30.0)

    def sections_at(self, gain_db: float, sample_rate_hz: float) -> tuple[Biquad, ...]:
        return _cut_at(self.hz, self.slope_db_per_octave, gain_db, sample_rate_hz)

    def response_at(self, gain_db: float, freqs_hz: Array, sample_rate_hz: float) -> NDArray[np.complex128]:
        if gain_db == 0.0:
            return np.ones(freqs_hz.shape, dtype=np.complex128)
        return frequency_response(self.sections_at(gain_db, sample_rate_hz), freqs_hz, sample_rate_hz=sample_rate_hz)

    def shape(self, sample_rate_hz: float) -> GainTable:
        # Mixed with what it is made from, a cut of several sections would leave a hole at its corner: it slides
        # instead.
        return _table(self.hz, self.slope_db_per_octave, float(np.floor(self.rest_db + self.depth_db)), sample_rate_hz)

    def detector(self, sample_rate_hz: float) -> tuple[Biquad, ...]:
        return self.own_band(sample_rate_hz)

    def stride(self, sample_rate_hz: float) -> int:
        return 1  # nothing is taken away that would keep what lies above its band from being folded into it

    def own_band(self, sample_rate_hz: float) -> tuple[Biquad, Biquad]:
        first, second = plain_cut(self.hz, 4, high_pass=False, sample_rate_hz=sample_rate_hz)
        return first, second


def _cut_at(hz: float, slope_db_per_octave: int, gain_db: float, sample_rate_hz: float) -> tuple[Biquad, ...]:
    """Return the cut that takes away gain_db at half of hz."""
    order = slope_db_per_octave // 6
    # |H|² of a Butterworth high-pass is 1/(1 + (corner/f)^(2·order)); solved for the corner at f = hz/2.
    corner_hz = hz / 2.0 * (10.0 ** (-gain_db / 10.0) - 1.0) ** (0.5 / order)
    return plain_cut(min(corner_hz, 0.4 * sample_rate_hz), order, high_pass=True, sample_rate_hz=sample_rate_hz)


@lru_cache(maxsize=256)
def _table(hz: float, slope_db_per_octave: int, lowest_db: float, sample_rate_hz: float) -> GainTable:
    gains_db = np.arange(lowest_db, TABLE_STEP_DB / 2.0, TABLE_STEP_DB)
    rows = []
    for gain_db in gains_db:
        at = float(gain_db) if gain_db < 0.0 else -ALMOST_OPEN_DB
        forms = np.array(
            [state_variable_form(section) for section in _cut_at(hz, slope_db_per_octave, at, sample_rate_hz)]
        )
        if gain_db == 0.0:
            forms[:, 2:] = (1.0, 0.0, 0.0)  # a wire, whatever its states: transparent to the bit
        rows.append(forms)
    return GainTable(lowest_db, np.array(rows))
