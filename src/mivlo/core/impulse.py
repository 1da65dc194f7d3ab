"""Impulse responses of a treatment's steady moves, for whatever convolves."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from mivlo.core.engine.mix import Mix
from mivlo.core.engine.render import render_track
from mivlo.core.engine.source import ArraySource
from mivlo.core.errors import ParameterError
from mivlo.core.model import LedgerEntry, Track
from mivlo.core.moves import Move
from mivlo.core.moves.capabilities import Steady
from mivlo.core.moves.trim import Trim
from mivlo.core.units import Array, gain_to_db

__all__ = ["Impulse", "Phase", "impulse_of", "steady_of"]

Phase = Literal["minimum", "linear"]
LOWEST_RATE_HZ, HIGHEST_RATE_HZ = 44_100, 192_000
LEFT_OUT = 1e-6  # -120 dB: of the absolute sum of what a file of full length leaves out
LONGEST_S = 30.0
FIRST_S = 1.0  # how much is looked at first; as long as that is not enough, twice as much


@dataclass(frozen=True, slots=True)
class Impulse:
    """A response: (1, n) where both channels are treated alike and apart; else (4, n), from left to left, from left to
    right, from right to left, from right to right.

    `middle_frame` is where the unit impulse stands that it is the response to; `left_out` is the absolute sum of
    what is beyond its ends, of the channel that loses most.
    """

    samples: Array
    middle_frame: int
    left_out: float

    @property
    def left_out_db(self) -> float:
        """Return what is left out in dB of a full-scale impulse. Raises nothing. Source: ours."""
        return gain_to_db(max(self.left_out, 1e-15))


def steady_of(moves: Sequence[Move], *, steady_only: bool) -> tuple[Move, ...]:
    """Return the moves that an impulse response can hold.

    Parameters
    ----------
    steady_only : leave others out; else they are refused

    Raises
    ------
    ParameterError: moves that come and go with the sound or the time, or stand for others; names them
    """
    acting = [move for move in moves if move.on]
    others = [move for move in acting if move.stand_in or move.times_s or not isinstance(move, Steady | Trim)]
    if others and not steady_only:
        names = ", ".join(f"{move.label.lower()} ({_why(move)})" for move in others)
        raise ParameterError(f"no impulse response can hold: {names}; --steady-only leaves them out")
    return tuple(move for move in acting if move not in others)


def _why(move: Move) -> str:
    if move.stand_in:
        return "a stand-in"
    return "acts at times only" if move.times_s else "not steady"


def impulse_of(
    moves: Sequence[Move], *, sample_rate_hz: int, phase: Phase = "minimum", seconds: float | None = None
) -> Impulse:  # fmt: skip
    """Return the response of steady moves, as the engine makes it.

    Parameters
    ----------
    moves : as of `steady_of`
    seconds : how long it may be at most; None: as long as it takes to leave out no more than -120 dB, up to 30 s

    Raises
    ------
    ParameterError: a rate that is not from 44.1 to 192 kHz, no length, a move that does not fit the rate

    Source: ours; the sum of absolutes of what is cut off bounds the peak of what a full-scale sound loses
    """
    if not LOWEST_RATE_HZ <= sample_rate_hz <= HIGHEST_RATE_HZ:
        raise ParameterError(f"rate={sample_rate_hz} must be from {LOWEST_RATE_HZ} to {HIGHEST_RATE_HZ} Hz")
    if seconds is not None and not 0.0 < seconds <= LONGEST_S:
        raise ParameterError(f"seconds={seconds:g} must be above 0 and at most {LONGEST_S:g}")
    longest, length = round(LONGEST_S * sample_rate_hz), round(FIRST_S * sample_rate_hz)
    while True:
        before = length if phase == "linear" else 0
        whole = _response(moves, before, length, sample_rate_hz, phase)
        if length >= longest or _fades_within(whole, before):
            break
        length = min(2 * length, longest)
    after, ahead = _kept(whole[:, before:]), _kept(whole[:, before::-1]) - 1 if before else 0
    if phase == "linear":
        ahead = after = max(ahead, after - 1)
        after += 1
    if seconds is not None:
        most = max(round(seconds * sample_rate_hz), 1)
        after = min(after, most if phase == "minimum" else (most + 1) // 2)
        ahead = min(ahead, after - 1)
    samples = whole[:, before - ahead : before + after]
    left_out = np.abs(whole).sum(axis=1) - np.abs(samples).sum(axis=1)
    return Impulse(samples, ahead, float(max(left_out.max(), 0.0)))


def _fades_within(whole: Array, middle: int) -> bool:
    """Tell whether the last quarter on both sides holds next to nothing."""
    size = whole.shape[1] - middle
    ends = [whole[:, middle + 3 * size // 4 :]] + ([whole[:, : middle // 4]] if middle else [])
    return all(float(np.abs(end).sum(axis=1).max()) < 0.5 * LEFT_OUT for end in ends)


def _kept(half: Array) -> int:
    """Return how many frames hold all but what may be left out on one side."""
    rest = np.cumsum(np.abs(half)[:, ::-1], axis=1)[:, ::-1].max(axis=0)
    over = np.flatnonzero(rest > 0.5 * LEFT_OUT)
    return int(over[-1]) + 1 if len(over) else 1


def _response(moves: Sequence[Move], before: int, after: int, rate: int, phase: Phase) -> Array:
    if all(move.channel == "both" for move in moves):
        return _rendered(moves, np.ones(1), before, after, rate, phase)
    sides = [_rendered(moves, side, before, after, rate, phase) for side in np.eye(2)]
    return np.concatenate(sides)


def _rendered(moves: Sequence[Move], channels: Array, before: int, after: int, rate: int, phase: Phase) -> Array:
    x = np.zeros((len(channels), before + after))
    x[:, before] = channels
    ledger = tuple(LedgerEntry(id=str(index), move=move) for index, move in enumerate(moves))
    mix = Mix(tracks=(Track(id="impulse", audio_id="impulse", ledger=ledger, phase=phase),))
    source = ArraySource(x)
    blocks = render_track(mix, "impulse", lambda _: source, start=0, end=before + after, sample_rate_hz=rate)
    return np.concatenate(list(blocks), axis=1)
