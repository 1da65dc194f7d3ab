"""Trim: the whole sound louder or softer, where the moves have changed its level."""

from typing import ClassVar, Literal

from mivlo.core.moves.base import BaseMove, Family, Keepers
from mivlo.core.moves.dynamic import level_db
from mivlo.core.processors.trim import TrimSpec
from mivlo.core.units import db_to_gain

__all__ = ["Trim"]


class Trim(BaseMove):
    """Not counted among what is taken away: nothing is missing of the sound."""

    label: ClassVar[str] = "Trim"
    summary: ClassVar[str] = "Makes the whole sound louder or softer."
    family: ClassVar[Family] = "give-back"
    adds_only: ClassVar[bool] = True

    kind: Literal["trim"] = "trim"
    gain_db: float = level_db("Gain", -24.0, 24.0, default=0.0, means="gain")

    def stage(
        self, key: str, *, on: bool, keepers: Keepers, sample_rate_hz: float, share: float = 1.0
    ) -> TrimSpec:  # fmt: skip
        return TrimSpec(key, db_to_gain(self.gain_db) if on else 1.0, self.channel)
