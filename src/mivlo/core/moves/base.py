"""What every move is, and what every static move is: shared fields, and what it must answer about itself."""

from abc import ABC, abstractmethod
from functools import lru_cache
from typing import Annotated, Any, ClassVar, Literal, NamedTuple, Self

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field, JsonValue, field_validator, model_validator

from mivlo.core.channel import Channel
from mivlo.core.errors import ParameterError
from mivlo.core.filters.biquad import Biquad, frequency_response
from mivlo.core.moves.capabilities import Placed, Sliced, Steady
from mivlo.core.processors.stage import StageSpec
from mivlo.core.processors.timed import Spans
from mivlo.core.units import Array, octaves_to_q

__all__ = [
    "BaseMove",
    "Family",
    "GainDb",
    "Hz",
    "Keepers",
    "PlaceHz",
    "Q",
    "Start",
    "StaticMove",
    "WidthAsOctaves",
    "slice_bell",
]

MIN_OCTAVES, MAX_OCTAVES = 0.0144, 6.7  # Q 100 and Q 0.1
NYQUIST_GUARD = 0.98  # of half the rate: designs need some room above the highest frequency

Keepers = tuple[tuple[float, float], ...]  # low and high edge in Hz of what is to be left alone
Family = Literal["static", "dynamic", "adaptive", "space", "give-back"]
Hz = Annotated[float, Field(ge=20.0, le=20_000.0, title="Frequency", json_schema_extra={"unit": "Hz"})]
PlaceHz = Annotated[Hz, Field(json_schema_extra={"unit": "Hz", "means": "place"})]
GainDb = Annotated[float, Field(ge=-30.0, le=30.0, title="Gain", json_schema_extra={"unit": "dB", "means": "gain"})]
Q = Annotated[float, Field(ge=0.1, le=100.0, title="Q", json_schema_extra={"unit": "Q", "means": "width"})]


class Start(NamedTuple):
    """A ready-made start: plain values that the user sees and can change."""

    label: str
    summary: str
    values: dict[str, JsonValue]


class BaseMove(BaseModel, ABC):
    """One act on the sound. A kind adds `kind`, its figures, its stage, and what it can say of itself (capabilities).

    What a figure means beyond its name is said in its schema (`means`): forms, pictures and lists go by that.
    """

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)
    label: ClassVar[str]
    summary: ClassVar[str]
    family: ClassVar[Family]
    starts: ClassVar[tuple[Start, ...]] = ()
    clears_away: ClassVar[bool] = False  # meant to leave nothing of what lies beyond it
    adds_only: ClassVar[bool] = False  # nothing of the sound is less by it
    scaled: ClassVar[tuple[str, ...]] = ()  # figures that go up and down with a strip's amount
    most_share: ClassVar[float] = 1.5  # of what it adds to the sound, at most

    on: bool = Field(default=True, title="On")
    stand_in: bool = Field(
        default=False, title="Stand-in",
        description="stands for what somebody does later: heard in the pressure test only, never rendered unasked",
    )  # fmt: skip
    channel: Channel = Field(default="both", title="Acts on", json_schema_extra={"group": "more"})
    times_s: Spans = Field(
        default=(), max_length=100, title="Times",
        description="pairs of start and end in seconds, in order and apart, between which alone it acts; none: always",
    )  # fmt: skip

    @field_validator("times_s")
    @classmethod
    def _in_order(cls, spans: Spans) -> Spans:
        flat = [edge for span in spans for edge in span]
        if any(start >= end for start, end in spans) or flat != sorted(flat) or any(edge < 0.0 for edge in flat):
            raise ValueError(f"times_s={spans} must be pairs of start and end in seconds from 0 on, in order and apart")
        return spans

    @property
    def takes_away(self) -> bool:
        """Whether anything of the sound may be less by it, so that there are offcuts."""
        return not self.adds_only

    def acts_at(self, at_s: float) -> bool:
        """Tell whether a time lies within the move's times."""
        return not self.times_s or any(start <= at_s <= end for start, end in self.times_s)

    def at_amount(self, amount: float) -> Self:
        """Return the move as it is where its strip has an amount (1: as it stands); at its limits it is held."""
        if amount in (0.0, 1.0):  # at 0 the whole ledger is off, and glides from where it stood
            return self
        scaled = {name: self._limited(name, getattr(self, name) * amount) for name in self.scaled}
        return self.model_copy(update=scaled)

    def is_held_at(self, amount: float) -> bool:
        """Tell whether an amount would take it beyond its kind's limits."""
        scaled = ((getattr(self, name) * amount, name) for name in self.scaled)
        return amount > self.most_share or any(self._limited(name, value) != value for value, name in scaled)

    def _limited(self, name: str, value: float) -> float:
        for limit in type(self).model_fields[name].metadata:
            value = max(value, getattr(limit, "ge", value))
            value = min(value, getattr(limit, "le", value))
        return value

    def stage(
        self, key: str, *, on: bool, keepers: Keepers, sample_rate_hz: float, share: float = 1.0
    ) -> StageSpec | None:  # fmt: skip
        """Return the stage that the move is; None for a static one, which shares a stage with its neighbours.

        `share`: of what it adds to the sound, where it does that.
        """
        return None

    def check_rate(self, sample_rate_hz: float) -> None:
        """Raise ParameterError where the move does not fit a sampling rate."""
        if isinstance(self, Placed):
            check_frequency(self.place_hz, sample_rate_hz)


def check_frequency(hz: float, sample_rate_hz: float, *, name: str = "hz") -> None:
    """Raise ParameterError for a frequency too close to half of a sampling rate, or above it."""
    limit_hz = NYQUIST_GUARD * sample_rate_hz / 2.0
    if hz > limit_hz:
        raise ParameterError(
            f"{name}={hz:g} must be at most {limit_hz:g} Hz "
            f"({NYQUIST_GUARD:g} of half of sample_rate_hz={sample_rate_hz:g})"
        )


class StaticMove(BaseMove, Placed, Steady, Sliced):
    """A move that is a filter which stands still."""

    family: ClassVar[Family] = "static"

    hz: PlaceHz

    @property
    def place_hz(self) -> float:
        return self.hz

    @abstractmethod
    def design(self, sample_rate_hz: float) -> tuple[Biquad, ...]:
        """Return the digital sections, for a frequency known to fit the rate."""

    def sections(self, sample_rate_hz: float) -> tuple[Biquad, ...]:
        self.check_rate(sample_rate_hz)
        return _designed(self, sample_rate_hz)

    def response(self, freqs_hz: Array, sample_rate_hz: float) -> NDArray[np.complex128]:
        return frequency_response(self.sections(sample_rate_hz), freqs_hz, sample_rate_hz=sample_rate_hz)


# While one move is dragged, all others stay as they are: live play must not design them anew each time.
@lru_cache(maxsize=4096)
def _designed(move: StaticMove, sample_rate_hz: float) -> tuple[Biquad, ...]:
    return move.design(sample_rate_hz)


def _describe_width(schema: dict[str, JsonValue]) -> None:
    """Tell the JSON Schema of the other way to say Q."""
    properties = schema["properties"]
    assert isinstance(properties, dict)
    properties["width_octaves"] = {
        "title": "Width",
        "description": "the other way to say q: N = (2/ln 2)·asinh(1/(2·q)); give one of the two",
        "type": "number",
        "minimum": MIN_OCTAVES,
        "maximum": MAX_OCTAVES,
        "unit": "octaves",
    }


class WidthAsOctaves(BaseModel):
    """Lets `width_octaves` stand in place of `q` in what is read; `q` is what is kept."""

    model_config = ConfigDict(json_schema_extra=_describe_width)

    @model_validator(mode="before")
    @classmethod
    def _octaves_to_q(cls, data: Any) -> Any:
        if not isinstance(data, dict) or "width_octaves" not in data:
            return data
        width = data["width_octaves"]
        if "q" in data:
            raise ValueError("q and width_octaves are two ways to say the same: give one of them")
        if not isinstance(width, int | float) or not MIN_OCTAVES <= width <= MAX_OCTAVES:
            raise ValueError(f"width_octaves={width!r} must be from {MIN_OCTAVES} to {MAX_OCTAVES} octaves")
        rest = {key: value for key, value in data.items() if key != "width_octaves"}
        return rest | {"q": octaves_to_q(float(width))}


def slice_bell(hz: float, q: float, sample_rate_hz: float) -> tuple[Biquad, Biquad]:
    """Return a band-pass of twice second order around hz, 0 dB at its centre, about as wide as a bell of q."""
    w0 = 2.0 * np.pi * hz / sample_rate_hz
    alpha = np.sin(w0) / (2.0 * max(q, 0.3))
    # Constant 0 dB peak band-pass of the Audio EQ Cookbook (R. Bristow-Johnson; W3C Note 2021).
    norm = 1.0 + alpha
    section = Biquad(
        float(alpha / norm), 0.0, float(-alpha / norm), float(-2.0 * np.cos(w0) / norm), float((1.0 - alpha) / norm)
    )
    return section, section
