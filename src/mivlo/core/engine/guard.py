"""The probe's guard and the output meter: K-weighted power and true peak, step by step of the control grid."""

from typing import Self

import numpy as np

from mivlo.core.cloning import sharing_clone
from mivlo.core.engine.mix import GuardReference
from mivlo.core.filters.biquad import Biquad
from mivlo.core.k_weighting import BLOCK_S, OFFSET_LU, k_weighting
from mivlo.core.kernels import CONTROL_FRAMES
from mivlo.core.processors.chain import Chain, KeyedSection
from mivlo.core.units import Array, db_to_gain

__all__ = ["Guard"]

LOUDNESS_ROOM_LU = 6.0  # over the un-probed loudness
CEILING_DBTP = -1.0
MARGIN_DB = 0.3  # for what a step of 64 frames cannot see of its neighbours
RELEASE_S = 0.3
HIGHEST_OVERSHOOT = 2.0  # of a true peak over the samples beside it; real sound stays well below
SPEND = 1.0 / 24.0  # of the power that the 400 ms window still allows, that one step may take
# Of the limit, what a step may take in any case: a loud passage just before the probe must not silence it. Within
# MARGIN_DB.
LEAST_SHARE = 0.05
# Windowed sinc for fourfold oversampling, one row for each of the four phases; reaches 10 samples each way.
OVERSAMPLING, REACH = 4, 10
_TAPS = np.sinc(np.arange(-REACH * OVERSAMPLING, REACH * OVERSAMPLING) / OVERSAMPLING) * np.kaiser(
    2 * REACH * OVERSAMPLING, 5.0
)
_PHASES = _TAPS.reshape(2 * REACH, OVERSAMPLING).T


class Guard:
    """Turns the output down so that a probe cannot get loud; exactly 1 while no probe sounds.

    Works one step behind its input, so that each step's gain can run down before the step that needs it.
    """

    def __init__(self, sample_rate_hz: float) -> None:
        weighting = [Biquad(*(row / row[3])[[0, 1, 2, 4, 5]]) for row in k_weighting(sample_rate_hz)]
        self._k = Chain(2, sample_rate_hz, [KeyedSection(str(i), section) for i, section in enumerate(weighting)])
        self._powers = np.zeros(round(BLOCK_S * sample_rate_hz / CONTROL_FRAMES))  # after the guard's gain
        self._release = 1.0 - np.exp(-CONTROL_FRAMES / (RELEASE_S * sample_rate_hz))
        self._knot = 1.0  # the gain at the start of the step that leaves next
        self._cap_now = 1.0
        self._waiting: Array | None = None
        self._waiting_power = 0.0
        self._fallback: GuardReference | None = None
        self.peak = 0.0

    @property
    def gain_db(self) -> float:
        """Return by how much the guard turns down just now."""
        return 20.0 * float(np.log10(self._knot))

    def momentary_power(self) -> float:
        """Return the K-weighted power of the last 400 ms of output, summed over the channels."""
        return float(np.mean(self._powers))

    def clone(self) -> Self:
        """Return one that goes on from here on its own."""
        other = sharing_clone(self)
        other._k, other._powers = self._k.clone(), self._powers.copy()
        return other

    def push(self, x: Array, reference: GuardReference | None) -> Array:
        """Take (2, n) of whole control steps, give back (2, n or n - 64): the same, one step later.

        `reference` is None while no probe sounds; without a known loudness the momentary one stands in for it.
        """
        if reference is None:
            self._fallback = None
        elif self._fallback is None:
            known = 10 * np.log10(self.momentary_power() + 1e-12) + OFFSET_LU
            self._fallback = GuardReference(loudness_lufs=max(float(known), -40.0))
        weighted = x.copy()
        self._k.process(weighted)
        steps = x.shape[1] // CONTROL_FRAMES
        # Each step is summed as a row of its own, so that the figures do not hang on how many come at once.
        rows = np.ascontiguousarray(weighted.reshape(2, steps, CONTROL_FRAMES).transpose(1, 0, 2))
        powers = np.sum(rows.reshape(steps, -1) ** 2, axis=1) / CONTROL_FRAMES
        if reference is None and self._knot == 1.0 and self._cap_now == 1.0:
            result = self._pass(x, powers)
        else:
            out = [self._step(block, float(power), reference) for block, power in zip(_split(x), powers, strict=True)]
            result = np.concatenate([block for block in out if block is not None] or [np.zeros((2, 0))], axis=1)
        if result.size:
            self.peak = max(self.peak, float(np.max(np.abs(result))))
        return result

    def _pass(self, x: Array, powers: Array) -> Array:
        """Do what `_step` does for many steps at once, while the gain is and stays 1."""
        if self._waiting is not None:
            x = np.concatenate([self._waiting, x], axis=1)
            powers = np.concatenate([[self._waiting_power], powers])
        self._powers = np.concatenate([self._powers, powers[:-1]])[-len(self._powers) :]
        self._waiting, self._waiting_power = x[:, -CONTROL_FRAMES:], float(powers[-1])
        return x[:, :-CONTROL_FRAMES]

    def _step(self, x: Array, power: float, reference: GuardReference | None) -> Array | None:
        """Take one step in; send the one before it out."""
        cap = 1.0 if reference is None else self._cap(x, power, reference)
        left = None if self._waiting is None else self._leave(cap)
        self._waiting, self._waiting_power, self._cap_now = x, power, cap
        return left

    def _leave(self, cap_next: float) -> Array:
        """Send the waiting step on, its gain running from the last knot to one that suits both it and the next step."""
        assert self._waiting is not None
        then = min(self._cap_now, cap_next, self._released())
        x = self._waiting
        if self._knot != 1.0 or then != 1.0:
            x = x * np.linspace(self._knot, then, CONTROL_FRAMES, endpoint=False)
        gain = max(self._knot, then)
        self._powers[:-1] = self._powers[1:]
        self._powers[-1] = self._waiting_power * gain * gain
        self._knot = then
        return x

    def _cap(self, x: Array, power: float, reference: GuardReference) -> float:
        """Return the highest gain that a step may have."""
        assert self._fallback is not None
        loudness = self._fallback.loudness_lufs if reference.loudness_lufs is None else reference.loudness_lufs
        assert loudness is not None
        limit = 10.0 ** ((loudness - OFFSET_LU + LOUDNESS_ROOM_LU - MARGIN_DB) / 10.0)
        # When a step is judged, the one before it still waits: the window will hold n - 2 older ones.
        spent = float(np.sum(self._powers[2:])) + self._waiting_power * min(self._released(), self._cap_now) ** 2
        budget = max(limit * len(self._powers) - spent, 0.0)
        allowed = max(budget * SPEND, min(budget, limit), LEAST_SHARE * limit)
        cap = 1.0 if power <= allowed else float(np.sqrt(allowed / power))
        ceiling_db = CEILING_DBTP
        if reference.true_peak_db is not None:
            ceiling_db = max(ceiling_db, reference.true_peak_db)
        ceiling = db_to_gain(ceiling_db - MARGIN_DB)
        if float(np.max(np.abs(x))) * HIGHEST_OVERSHOOT < ceiling:
            return cap
        peak = self._true_peak(x)
        return min(cap, ceiling / peak) if peak > ceiling else cap

    def _released(self) -> float:
        """Return where the gain may have come back to by the end of the waiting step."""
        released = self._knot + self._release * (1.0 - self._knot)
        return 1.0 if released > 0.9999 else float(released)

    def _true_peak(self, x: Array) -> float:
        """Return the true peak of a step, the second half of the step before it included."""
        before = np.zeros_like(x) if self._waiting is None else self._waiting
        recent = np.concatenate([before, x], axis=1)[:, CONTROL_FRAMES // 2 - REACH :]
        return float(max(np.max(np.abs(np.convolve(c, phase, "valid"))) for c in recent for phase in _PHASES))


def _split(x: Array) -> list[Array]:
    return [x[:, start : start + CONTROL_FRAMES] for start in range(0, x.shape[1], CONTROL_FRAMES)]
