"""What a move can say of itself beyond its figures and its stage: whoever shows or measures moves asks for these.

A move is none of them by itself; a kind takes those that it can answer. What a running move does at each moment is told
by its stage's trace (`processors/stage.py`), with bands or without.
"""

from abc import ABC, abstractmethod

from numpy import complex128
from numpy.typing import NDArray

from mivlo.core.filters.analog import AnalogSection
from mivlo.core.filters.biquad import Biquad
from mivlo.core.units import Array

__all__ = ["FollowsLevel", "Listens", "Placed", "Responds", "Sliced", "Steady"]


class Placed(ABC):
    """Stands somewhere on the frequency axis; a move that does not stands at the head of the margin."""

    @property
    @abstractmethod
    def place_hz(self) -> float:
        """Return where."""


class Responds(ABC):
    """Has a response, at its full extent where it comes and goes."""

    @abstractmethod
    def response(self, freqs_hz: Array, sample_rate_hz: float) -> NDArray[complex128]:
        """Return the (bins,) response at (bins,) frequencies; raises ParameterError for a rate that it does not fit."""


class Steady(Responds):
    """Is a filter that stands still."""

    @abstractmethod
    def analog_sections(self) -> tuple[AnalogSection, ...]:
        """Return the analogue shape that the move promises."""

    @abstractmethod
    def sections(self, sample_rate_hz: float) -> tuple[Biquad, ...]:
        """Return the digital sections; raises ParameterError for a rate that it does not fit."""


class FollowsLevel(Responds):
    """Has one gain at each moment, and at each gain a response."""

    @property
    @abstractmethod
    def extent_db(self) -> float:
        """Return the gain at its full extent."""

    @abstractmethod
    def response_at(self, gain_db: float, freqs_hz: Array, sample_rate_hz: float) -> NDArray[complex128]:
        """Return the (bins,) response while the move stands at a gain."""


class Sliced(ABC):
    """Acts on a region that can be heard by itself."""

    @abstractmethod
    def slice_sections(self, sample_rate_hz: float) -> tuple[Biquad, ...]:
        """Return a filter that lets just that region through."""


class Listens(ABC):
    """May follow another track or group than its own."""

    @property
    @abstractmethod
    def heard_id(self) -> str:
        """Return the id of what it listens to; empty: itself."""
