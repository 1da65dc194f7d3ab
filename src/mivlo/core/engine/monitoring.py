"""What lies between the mix and the ears, and in no file: level match, what is listened through, pitch pipe, dim,
and the probe's guard."""

from dataclasses import dataclass

import numpy as np

from mivlo.core.engine.guard import Guard
from mivlo.core.engine.mix import GuardReference, Mix
from mivlo.core.engine.pipe import Pipe
from mivlo.core.engine.ramp import STEPS, Ramp
from mivlo.core.engine.through import Through
from mivlo.core.kernels import CONTROL_FRAMES
from mivlo.core.units import Array, db_to_gain

__all__ = ["DIM_DB", "Monitoring", "MonitoringMark"]

DIM_DB = -20.0
SIDES_S, SILENT = 0.4, 1e-9
PROBE_FADE_FRAMES = (STEPS + 2) * CONTROL_FRAMES


@dataclass(frozen=True, slots=True)
class MonitoringMark:
    """How it stood at a frame; it cannot be rendered again from what passes it."""

    mix: Mix
    guard: Guard
    pipe: Pipe
    through: Through
    guarded_until: int
    fading_guard: GuardReference


class Monitoring:
    """Passes the mix on as it is listened to, a control step later."""

    def __init__(self, mix: Mix, *, sample_rate_hz: float) -> None:
        self._mix = mix
        self._match, self._dim = Ramp(db_to_gain(mix.match_db)), Ramp(_dim_gain(mix))
        self._pipe = Pipe(mix.pipe_hz, sample_rate_hz=sample_rate_hz)
        self._through = Through(mix.through, sample_rate_hz=sample_rate_hz)
        self._guard = Guard(sample_rate_hz)
        self._sides = np.zeros(3)  # power left and right, and what both have in common, of the last moments
        self._forget = -1.0 / (SIDES_S * sample_rate_hz)
        self._guarded_until, self._fading_guard = 0, mix.guard

    @property
    def mix(self) -> Mix:
        """Return what is listened to."""
        return self._mix

    @property
    def guard(self) -> Guard:
        """Return the guard, which also meters."""
        return self._guard

    def apply(self, mix: Mix, *, frame: int) -> None:
        """Glide to another way of listening from a frame on."""
        if self._mix.probes() and not mix.probes():
            self._fading_guard = self._mix.guard
            self._guarded_until = frame + PROBE_FADE_FRAMES
        self._mix = mix
        self._match.set_goal(db_to_gain(mix.match_db), frame=frame)
        self._pipe.set_goal(mix.pipe_hz, frame=frame)
        self._through.set_goal(mix.through, frame=frame)
        self._dim.set_goal(_dim_gain(mix), frame=frame)

    def until_seam(self, frame: int, n_frames: int) -> int:
        """Return how many of some frames can be passed on at once: a probe's fade may end among them."""
        return self._guarded_until - frame if frame < self._guarded_until < frame + n_frames else n_frames

    def process(self, mixed: Array, frame: int) -> Array:
        """Return what leaves the guard as (2, n_frames) of the mix from a frame on goes in; `mixed` is written to."""
        n_frames = mixed.shape[1]
        mixed *= self._match.take(frame, n_frames)
        self._note_sides(mixed)
        mixed = self._through.process(mixed, frame)
        self._pipe.add_to(mixed, frame)
        mixed *= self._dim.take(frame, n_frames)
        return self._guard.push(mixed, self._guard_reference(frame))

    def mark(self) -> MonitoringMark:
        """Return how it stands, to be taken back to."""
        return MonitoringMark(
            self._mix, self._guard.clone(), self._pipe.clone(), self._through.clone(), self._guarded_until,
            self._fading_guard,
        )  # fmt: skip

    def take_back(self, frame: int, mark: MonitoringMark) -> None:
        """Undo all changes later than a frame, and stand as a mark tells; the highest peak so far stays."""
        self._match.take_back(frame)
        self._dim.take_back(frame)
        self._mix, self._pipe, self._through = mark.mix, mark.pipe.clone(), mark.through.clone()
        peak, self._guard = self._guard.peak, mark.guard.clone()
        self._guard.peak = peak
        self._guarded_until, self._fading_guard = mark.guarded_until, mark.fading_guard

    @property
    def correlation(self) -> float | None:
        """Return how far both sides go together, -1 to 1, over the last moments; None of silence."""
        left, right, both = self._sides
        return float(both / np.sqrt(left * right)) if min(left, right) > SILENT else None

    def _note_sides(self, x: Array) -> None:
        self._sides *= np.exp(self._forget * x.shape[1])
        self._sides += x[0] @ x[0], x[1] @ x[1], x[0] @ x[1]

    def _guard_reference(self, frame: int) -> GuardReference | None:
        """Return the guard's reference while a probe sounds, or still fades out."""
        if self._mix.probes():
            return self._mix.guard
        return self._fading_guard if frame < self._guarded_until else None


def _dim_gain(mix: Mix) -> float:
    return db_to_gain(DIM_DB) if mix.dim else 1.0
