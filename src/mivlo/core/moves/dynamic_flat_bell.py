"""Dynamic flat bell: a whole band that dips evenly only while something is loud there, or while another track is."""

from functools import lru_cache
from typing import ClassVar, Literal

from pydantic import Field

from mivlo.core.filters import matched
from mivlo.core.filters.biquad import Biquad
from mivlo.core.moves.base import Q, Start, WidthAsOctaves, slice_bell
from mivlo.core.moves.dynamic import DynamicMove

__all__ = ["DynamicFlatBell"]


class DynamicFlatBell(WidthAsOctaves, DynamicMove):
    """At its full extent a flat bell; between, as flat within 0.4 dB, with its sides nearer or further."""

    label: ClassVar[str] = "Dynamic flat bell"
    summary: ClassVar[str] = (
        "Dips a whole band evenly only while it is loud there, or while another track is: steep at its sides."
    )
    starts: ClassVar[tuple[Start, ...]] = (
        Start(
            "when loud",
            "holds a whole region down in the loud moments",
            {
                "depth_db": -5.0,
                "ratio": 4.0,
                "knee_db": 6.0,
                "attack_ms": 10.0,
                "release_ms": 160.0,
                "lookahead_ms": 4.0,
                "trigger": "above",
                "detection": "rms",
            },
        ),
        Start(
            "give way to",
            "makes room in one region while another track sounds: choose it under Listens to",
            {
                "depth_db": -4.0,
                "ratio": 3.0,
                "knee_db": 10.0,
                "attack_ms": 25.0,
                "release_ms": 220.0,
                "lookahead_ms": 15.0,
                "trigger": "above",
                "detection": "rms",
            },
        ),
    )

    kind: Literal["dynamic-flat-bell"] = "dynamic-flat-bell"
    q: Q = Field(default=1.41, ge=0.1, le=30.0)

    @property
    def band_low_hz(self) -> float:
        return self.hz

    def sections_at(self, gain_db: float, sample_rate_hz: float) -> tuple[Biquad, ...]:
        return _sections(self.hz, gain_db, self.q, sample_rate_hz)

    def own_band(self, sample_rate_hz: float) -> tuple[Biquad, Biquad]:
        return slice_bell(self.hz, self.q, sample_rate_hz)


@lru_cache(maxsize=256)
def _sections(hz: float, gain_db: float, q: float, sample_rate_hz: float) -> tuple[Biquad, ...]:
    return matched.flat_bell(hz, gain_db, q, sample_rate_hz=sample_rate_hz)
