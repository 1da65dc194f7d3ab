"""What warmth and air have alike: harmonics of a band, so far under its level."""

from abc import abstractmethod
from typing import ClassVar

from mivlo.core.moves.base import BaseMove, Family, Keepers
from mivlo.core.moves.capabilities import Placed
from mivlo.core.moves.dynamic import level_db
from mivlo.core.processors.harmonics import HarmonicsFigures, HarmonicsSpec, Side

__all__ = ["HarmonicsMove"]


class HarmonicsMove(BaseMove, Placed):
    """Added beside the sound, which stays as it is."""

    family: ClassVar[Family] = "give-back"
    adds_only: ClassVar[bool] = True
    side: ClassVar[Side]

    amount_db: float = level_db("Under the band", -40.0, 0.0, default=-18.0)

    @property
    @abstractmethod
    def edge_hz(self) -> float:
        """Return where the band ends."""

    @property
    def place_hz(self) -> float:
        return self.edge_hz

    def stage(
        self, key: str, *, on: bool, keepers: Keepers, sample_rate_hz: float, share: float = 1.0
    ) -> HarmonicsSpec:  # fmt: skip
        self.check_rate(sample_rate_hz)
        figures = HarmonicsFigures(self.side, self.edge_hz, self.amount_db, on, self.channel, share)
        return HarmonicsSpec(key, figures, sample_rate_hz)
