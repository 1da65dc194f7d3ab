"""A chain of filter sections with state, whose figures can change while it runs."""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Self

import numpy as np

from mivlo.core import kernels
from mivlo.core.channel import Channel
from mivlo.core.cloning import sharing_clone
from mivlo.core.errors import ParameterError
from mivlo.core.filters.biquad import Biquad, decay_s, state_variable_form
from mivlo.core.kernels import CONTROL_FRAMES
from mivlo.core.processors.stage import FORGOTTEN_DB, Context, StageSpec, Trace
from mivlo.core.units import Array

__all__ = ["Chain", "ChainSpec", "ChainStage", "KeyedSection"]

_LANES: dict[Channel, int] = {"both": 0, "left": 1, "right": 2, "mid": 3, "side": 4}

GLIDE_S = 0.013  # of each of three one-pole stages: slow enough that a moved bell stays under -80 dB off the tone
GLIDE_END_STAGES = 20.0  # after 20 time constants the rest (5e-7) is dropped in one step
SWITCH_STEPS = 8  # of the control grid: 10.7 ms at 48 kHz for on and off
_FIGURES = ("_lanes", "_now", "_then", "_target", "_stages", "_left", "_wet_step", "_wet_goal", "_wet_now", "_wet_then")
_ARRAYS = ("_state", *_FIGURES)


@dataclass(frozen=True, slots=True)
class KeyedSection:
    """A section with a name that says which section it continues when figures change."""

    key: str
    section: Biquad
    on: bool = True
    channel: Channel = "both"


@dataclass(frozen=True, slots=True)
class ChainSpec(StageSpec):
    """Static sections in series, in minimum phase."""

    key: str
    sections: tuple[KeyedSection, ...]

    def structure(self) -> str:
        return self.key

    def make(self, n_channels: int, sample_rate_hz: float) -> "ChainStage":
        # Whatever is off at the start is left out, and fades in when it is switched on.
        return ChainStage(Chain(n_channels, sample_rate_hz, [section for section in self.sections if section.on]))

    def retune(self, stage: "ChainStage") -> None:
        stage.chain.set_sections(self.sections)

    def memory_s(self, sample_rate_hz: float) -> float:
        acting = (keyed.section for keyed in self.sections if keyed.on)
        return max((_memory_s(section, sample_rate_hz) for section in acting), default=0.0)


@lru_cache(maxsize=4096)
def _memory_s(section: Biquad, sample_rate_hz: float) -> float:
    return decay_s(section, fall_db=FORGOTTEN_DB, sample_rate_hz=sample_rate_hz)


class Chain:
    """Sections in series over (channels, n) blocks of whole control steps; bit-identical however the blocks are cut.

    A section of a channel acts on that channel, or on the half sum (mid) or half difference (side); one channel
    alone takes every section but those of the side, which it has not.
    """

    def __init__(self, n_channels: int, sample_rate_hz: float, sections: Sequence[KeyedSection] = ()) -> None:
        self._n_channels = n_channels
        self._pole = 1.0 - np.exp(-CONTROL_FRAMES / (GLIDE_S * sample_rate_hz))
        self._glide_steps = int(np.ceil(GLIDE_END_STAGES * GLIDE_S * sample_rate_hz / CONTROL_FRAMES))
        self._wet_curve = 0.5 - 0.5 * np.cos(np.pi * np.arange(SWITCH_STEPS + 1) / SWITCH_STEPS)
        self._keys: list[str] = []
        self._fading_out: set[str] = set()
        self._at_rest = self._shares = False  # whether figures glide no more, and whether a clone has the same arrays
        self._allocate(0)
        self._insert_all(self._possible(sections))

    @property
    def n_sections(self) -> int:
        """Return how many sections run, those that fade out included."""
        return len(self._keys)

    def clone(self) -> Self:
        """Return a chain that goes on from here on its own."""
        self._at_rest = self._at_rest or self._has_settled()
        self._shares = self._at_rest
        other = sharing_clone(self)
        other._state = self._state.copy()
        if not self._at_rest:
            other._copy_figures()
        return other

    def set_sections(self, sections: Sequence[KeyedSection]) -> None:
        """Glide to other sections from the next control step on; new ones fade in, missing ones fade out."""
        sections = self._possible(sections)
        self._own_figures()
        wanted = {section.key for section in sections}
        order = [section.key for section in sections]
        for index, key in enumerate(self._keys):
            if key not in wanted and self._wet_step[index] > 0:
                before = self._keys[index - 1] if index else None
                order.insert(order.index(before) + 1 if before in order else 0, key)
        self._reorder(order)
        self._fading_out = set(order) - wanted
        for key in self._fading_out:
            self._wet_goal[order.index(key)] = 0
        for section in sections:
            self._retarget(order.index(section.key), section)

    def process(self, x: Array) -> None:
        """Filter x (channels, n) float64 in place.

        Raises
        ------
        ParameterError: n is no multiple of the control step
        """
        if x.shape[1] % CONTROL_FRAMES:
            raise ParameterError(f"n={x.shape[1]} must be a multiple of {CONTROL_FRAMES} frames")
        kernels.svf_chain.run_chain(
            x, self._state, self._lanes, self._now, self._then, self._stages, self._target, self._left,
            self._wet_now, self._wet_then, self._wet_step, self._wet_goal, self._wet_curve, self._pole,
        )  # fmt: skip

    def is_finite(self) -> bool:
        """Tell whether every state is a finite number."""
        return bool(np.isfinite(self._state).all())

    def _has_settled(self) -> bool:
        """Tell whether all sections are what they are to be, at both knots: nothing is written to any more."""
        return (
            not self._left.any()
            and np.array_equal(self._wet_step, self._wet_goal)
            and np.array_equal(self._wet_now, self._wet_then)
            and np.array_equal(self._now, self._then)
        )

    def _own_figures(self) -> None:
        """Have arrays that no clone has, to be written to."""
        if self._shares:
            self._copy_figures()
        self._at_rest = self._shares = False

    def _copy_figures(self) -> None:
        for name in _FIGURES:
            setattr(self, name, getattr(self, name).copy())

    def _possible(self, sections: Sequence[KeyedSection]) -> list[KeyedSection]:
        if self._n_channels == 2:
            return list(sections)
        return [section for section in sections if section.channel != "side"]

    def _insert_all(self, sections: Sequence[KeyedSection]) -> None:
        """Start with these sections fully in, without a fade."""
        self._reorder([section.key for section in sections])
        for index, section in enumerate(sections):
            self._retarget(index, section)
        self._wet_step[:] = self._wet_goal
        self._wet_then[:] = self._wet_now[:] = self._wet_curve[self._wet_goal]

    def _retarget(self, index: int, section: KeyedSection) -> None:
        coefs = state_variable_form(section.section)
        self._wet_goal[index] = SWITCH_STEPS if section.on else 0
        self._lanes[index] = _LANES[section.channel] if self._n_channels == 2 else 0
        if self._then[index, 0] == 0.0:  # a new one: g of a real section is above 0
            self._stages[index] = self._now[index] = self._then[index] = self._target[index] = coefs
        elif not np.array_equal(coefs, self._target[index]):
            self._target[index] = coefs
            self._left[index] = self._glide_steps

    def _allocate(self, n: int) -> None:
        self._state = np.zeros((n, self._n_channels, 2))
        self._now, self._then, self._target = (np.zeros((n, 5)) for _ in range(3))
        self._stages = np.zeros((n, 3, 5))
        self._left, self._lanes, self._wet_step, self._wet_goal = (np.zeros(n, dtype=np.int64) for _ in range(4))
        self._wet_now, self._wet_then = np.zeros(n), np.zeros(n)

    def _reorder(self, order: list[str]) -> None:
        """Lay all arrays out anew for the keys in order, keeping what a kept key had."""
        if order == self._keys:
            return
        old_keys, old = self._keys, {name: getattr(self, name) for name in _ARRAYS}
        self._allocate(len(order))
        for new_index, key in enumerate(order):
            if key in old_keys:
                for name in _ARRAYS:
                    getattr(self, name)[new_index] = old[name][old_keys.index(key)]
        self._keys = list(order)


@dataclass(slots=True)
class ChainStage:
    """A chain as a stage; it has no latency."""

    chain: Chain

    @property
    def latency_frames(self) -> int:
        return 0

    def process(self, x: Array, context: Context) -> Array:
        self.chain.process(x)
        return x

    def trace(self) -> Trace | None:
        return None

    def clone(self) -> "ChainStage":
        return ChainStage(self.chain.clone())

    def is_finite(self) -> bool:
        return self.chain.is_finite()
