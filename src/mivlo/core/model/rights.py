"""Right of way as it is written down: an order, and exceptions by region."""

from pydantic import Field

from mivlo.core.model.base import Frozen
from mivlo.core.model.ledger import Region

__all__ = ["RegionRule", "RightOfWay"]


class RegionRule(Region):
    """An exception from the order, for two tracks in a region; `first` None: both stay."""

    one: str = Field(max_length=64)
    other: str = Field(max_length=64)
    first: str | None = Field(default=None, max_length=64)

    def is_at(self, other: "RegionRule") -> bool:
        """Tell whether two rules are of the same two tracks in the same region. Raises nothing. Source: ours."""
        return {self.one, self.other} == {other.one, other.other} and (self.low_hz, self.high_hz) == (
            other.low_hz,
            other.high_hz,
        )


class RightOfWay(Frozen):
    """The order of tracks and groups by their ids, those that go first in front, and exceptions by region; later ones
    count."""

    order: tuple[str, ...] = Field(default=(), max_length=300)
    exceptions: tuple[RegionRule, ...] = Field(default=(), max_length=300)
