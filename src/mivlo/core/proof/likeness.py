"""Likeness: drawing one sound's overall balance towards another's by a few ordinary moves.

Balances are compared over an octave at a time, so that notes are not copied; the moves are fitted so that *their*
curve, seen through the same octave, is what is wanted, so that a narrower fault of the whole balance is still met.
"""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from itertools import chain
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import convolve1d

from mivlo.core.filters import analog
from mivlo.core.moves.bell import Bell
from mivlo.core.moves.high_shelf import HighShelf
from mivlo.core.moves.low_shelf import LowShelf
from mivlo.core.units import Array, power_to_db

__all__ = [
    "LIMIT_DB",
    "MOST_MOVES",
    "Balance",
    "Likeness",
    "balance_of",
    "distance_db",
    "drawn_towards",
    "slope_balance",
]

MOST_MOVES, LIMIT_DB = 6, 6.0  # at first
THIRDS_HZ = 1_000.0 * 10.0 ** (np.arange(-12, 12) / 10.0)  # base ten, 63 Hz to 12.6 kHz: the thirds within the range
LOW_HZ, HIGH_HZ = 60.0, 12_000.0
STEPS = 12  # of the fit, to the octave
GRID_HZ = 40.0 * 2.0 ** (np.arange(int(np.log2(16_000.0 / 40.0) * STEPS) + 1) / STEPS)
WINDOW_S, PLAYS_DB = 0.34, 40.0  # below the loud moments, it is a pause
N_STRETCHES = 8
NOISE_DB, LEAST_PAUSES = 3.0, 8
SILENT_DB = -110.0  # a band that holds less holds nothing
NOTES_WITHIN_DB = 35.0  # of the loudest place
NOTES_DB = 1.0  # that two differ between neighbouring steps, on average: other notes are played
WANDERS_TIMES = 0.6  # a difference counts as far as it is beyond that of how much the balances wander
Q_LIMITS, LEAST_GAIN_DB, LEAST_BETTER_DB = (0.4, 2.5), 0.3, 0.02
WORTHLESS = 2  # moves in a row that are not worth it: then no more are tried
CLOSER = 0.5  # of the weight of what is seen through an octave
KEPT_WEIGHT, BELOW_WEIGHT, HELD_WEIGHT, GAIN_COST = 4.0, 0.5, 3.0, 0.02
GAIN_COST_OF_NOTES, SHARPEST_OF_NOTES = 0.06, 1.4  # an octave is seen of them: nothing narrower is known
Shape = Literal["bell", "low-shelf", "high-shelf"]
Drawn = Bell | LowShelf | HighShelf


@dataclass(frozen=True, slots=True)
class Balance:
    """The long-term balance of a sound where it plays: powers in dB, and how much the balance wanders (dB).

    `thirds_db` (24,) at THIRDS_HZ; (grid,) at GRID_HZ: `grid_db` and `wanders_db` seen through an octave, `fine_db`
    what a third of one passes over; `holds` tells where more than noise is held.
    """

    thirds_db: Array
    power: Array  # (grid,) of each step
    grid_db: Array
    wanders_db: Array
    fine_db: Array
    holds: NDArray[np.bool_]


@dataclass(frozen=True, slots=True)
class Likeness:
    """Moves that draw a balance towards another, and the distances before and after (`balance_of` tells of which)."""

    moves: tuple[Drawn, ...]
    distance_before_db: float
    distance_after_db: float
    wanted_db: Array  # (grid,) at GRID_HZ
    drawn_db: Array
    left_db: Array  # (24,) at THIRDS_HZ: what remains of the difference


def balance_of(blocks: Iterable[Array], *, sample_rate_hz: float) -> Balance:
    """Return the balance of (channels, n) blocks that follow one another.

    Raises
    ------
    Nothing: of silence, the balance is flat and nothing is held.

    Source: ours (Welch's windows; thirds of an octave as in IEC 61260, with rectangular flanks)
    """
    frames = np.concatenate([*_windows(blocks, sample_rate_hz), np.zeros((0, _edges().size))])
    power = np.diff(frames, axis=1)[:, : len(GRID_HZ)]  # of cumulated power: what lies between the edges
    loud = frames[:, -1] if len(frames) else np.zeros(0)
    plays = loud > (np.percentile(loud, 95.0) * 10.0 ** (-PLAYS_DB / 10.0) if len(loud) else 0.0)
    if not plays.any():
        flat = np.zeros(len(GRID_HZ))
        return Balance(np.zeros(len(THIRDS_HZ)), flat, flat, flat, flat, np.zeros(len(GRID_HZ), bool))
    playing, pauses = power[plays], power[~plays]
    mean = playing.mean(axis=0)
    holds = power_to_db(mean) > SILENT_DB
    if len(pauses) >= LEAST_PAUSES:
        holds &= power_to_db(mean) - power_to_db(pauses.mean(axis=0) + 1e-30) > NOISE_DB
    level_db = power_to_db(mean + 1e-20)
    grid_db, fine_db = _smoothed(level_db), level_db - _smoothed(level_db, 1.0 / 3.0)
    stretches = [part.mean(axis=0) for part in np.array_split(playing, N_STRETCHES) if len(part)]
    each = np.array([_levelled(_smoothed(power_to_db(part + 1e-20))) for part in stretches])
    wanders = each.std(axis=0, ddof=1) / np.sqrt(len(each)) if len(each) > 1 else np.full(len(GRID_HZ), 3.0)
    thirds = np.array([_between(frames[plays].mean(axis=0), hz) for hz in THIRDS_HZ])
    return Balance(power_to_db(thirds + 1e-20), mean, grid_db, wanders, fine_db, holds)


def slope_balance(db_per_octave: float) -> Balance:
    """Return a plain slope as a balance (white noise rises by 3 dB an octave in bands of equal width on the axis).

    Raises nothing. Source: ours.
    """

    def slope(hz: Array) -> Array:
        return db_per_octave * np.log2(hz / 1_000.0)

    still = np.zeros(len(GRID_HZ))
    power = 10.0 ** (slope(GRID_HZ) / 10.0)
    return Balance(slope(THIRDS_HZ), power, slope(GRID_HZ), still, still, np.ones(len(GRID_HZ), bool))


def distance_db(one: Balance, other: Balance) -> float:
    """Return the distance of two balances: the RMS of the difference in dB, 60 Hz to 12 kHz, its mean taken off.

    Raises nothing. Source: definitions of the project.
    """
    return float(np.sqrt(np.mean(_levelled(one.thirds_db - other.thirds_db) ** 2)))


def drawn_towards(
    one: Balance, other: Balance, *, amount: float = 100.0, most_moves: int = MOST_MOVES, limit_db: float = LIMIT_DB,
    low_hz: float = LOW_HZ, high_hz: float = HIGH_HZ, keepers: Sequence[tuple[float, float]] = (),
) -> Likeness:  # fmt: skip
    """Return moves that draw the balance of one sound towards another's.

    Parameters
    ----------
    amount : per cent of the way
    limit_db : that no move goes beyond
    low_hz, high_hz : outside of which nothing is drawn
    keepers : regions that are not touched

    Raises
    ------
    Nothing.

    Source: ours; bells and shelves by least squares on the logarithm of magnitude
    """
    inside = (low_hz / 2**0.25 <= GRID_HZ) & (high_hz * 2**0.25 >= GRID_HZ)
    plays_notes = np.sqrt(np.mean((one.fine_db - other.fine_db)[inside] ** 2)) > NOTES_DB
    # Below the lowest notes there is no balance, only what is left of something else.
    sounds = (np.cumsum(_sounds(one)) > 0) & (np.cumsum(_sounds(other)) > 0)
    sounds |= not plays_notes
    below, inside = inside & ~sounds, inside & sounds
    if not inside.any():
        inside = ~below
    difference = other.grid_db - one.grid_db
    difference = difference - np.mean(difference[inside])
    unsure = WANDERS_TIMES * np.hypot(one.wanders_db, other.wanders_db)
    wanted = 0.01 * amount * difference * _sure_part(difference, unsure)
    weight = inside.astype(float)
    noise = inside & ~one.holds & (wanted > 0.0)  # is not lifted
    wanted[noise], weight[noise] = 0.0, KEPT_WEIGHT
    wanted[below], weight[below] = 0.0, BELOW_WEIGHT
    for low, high in keepers:
        kept = (low <= GRID_HZ) & (high >= GRID_HZ)
        wanted[kept], weight[kept] = 0.0, KEPT_WEIGHT
    closer = None if plays_notes else _closer(one, other, inside) * np.where(weight == inside, 0.01 * amount, 0.0)
    fit = _Fit(wanted, closer, weight, limit_db=limit_db, low_hz=low_hz, high_hz=high_hz)
    fit.grow(most_moves)
    return _described(one, other, fit, wanted)


def _closer(one: Balance, other: Balance, inside: NDArray[np.bool_]) -> Array:
    """Return the difference of two balances over a third of an octave: where there are no notes, none is copied."""
    closer = power_to_db(other.power + 1e-20) - other.fine_db - power_to_db(one.power + 1e-20) + one.fine_db
    return np.asarray(closer - np.mean(closer[inside]))


def _described(one: Balance, other: Balance, fit: "_Fit", wanted: Array) -> Likeness:
    moves = tuple(_as_move(shape, *figures) for shape, figures in fit.found() if abs(figures[1]) >= LEAST_GAIN_DB)
    drawn = _curve_of(moves, GRID_HZ)
    left = _levelled(other.thirds_db - one.thirds_db - _done_to_thirds(one.power, drawn))
    return Likeness(
        moves=moves, distance_before_db=distance_db(one, other), distance_after_db=float(np.sqrt(np.mean(left**2))),
        wanted_db=wanted, drawn_db=drawn, left_db=left,
    )  # fmt: skip


def _done_to_thirds(power: Array, curve_db: Array) -> Array:
    """Return (24,) by how much a curve changes each third of an octave of a sound of a power at each step."""
    shares = np.clip(0.5 + STEPS * (1.0 / 6.0 - np.abs(np.log2(THIRDS_HZ[:, None] / GRID_HZ[None, :]))), 0.0, 1.0)
    before = shares @ power
    return power_to_db((shares @ (power * 10.0 ** (curve_db / 10.0)) + 1e-30) / (before + 1e-30))


def _windows(blocks: Iterable[Array], rate: float) -> Iterable[Array]:
    """Yield (windows, edges) of the power below each edge, mean over the channels, Hann windows that half overlap."""
    size = 1 << round(np.log2(WINDOW_S * rate))
    window = np.hanning(size + 1)[:size]
    edges = np.minimum(_edges() * size / rate, size // 2)
    waiting, n_found = np.zeros((0, 0)), 0
    for block in chain(blocks, [None]):
        if block is None:  # what is shorter than a window is one, with silence behind it
            if n_found or not waiting.size:
                return
            block = np.zeros((len(waiting), size - waiting.shape[1]))
        waiting = block if not waiting.size else np.concatenate([waiting, block], axis=1)
        found = []
        start = 0
        while start + size <= waiting.shape[1]:
            power = np.mean(np.abs(np.fft.rfft(waiting[:, start : start + size] * window, axis=1)) ** 2, axis=0)
            below = np.concatenate([[0.0], np.cumsum(power)]) * (2.0 / np.sum(window)) ** 2
            found.append(np.interp(edges + 0.5, np.arange(len(below)), below))
            start += size // 2
        waiting = waiting[:, start:].copy()
        if found:
            n_found += len(found)
            yield np.array(found)


def _edges() -> Array:
    """Return the lower edges of all bands of the grid, and the upper one of the last; then that of all there is."""
    half = 2.0 ** (0.5 / STEPS)
    return np.concatenate([GRID_HZ / half, [GRID_HZ[-1] * half, 20_000.0]])


def _between(below: Array, hz: float) -> float:
    """Return the power in the third of an octave around a frequency, from the power below the edges of the grid."""
    low, high = hz * 10.0**-0.05, hz * 10.0**0.05
    at = np.interp(np.log2([low, high]), np.log2(_edges()), below)
    return float(at[1] - at[0])


def _smoothed(db: Array, octaves: float = 1.0) -> Array:
    """Return (bands,) seen through a raised cosine that is so wide at half its height."""
    kernel = np.hanning(2 * round(octaves * STEPS) + 1)
    return np.asarray(convolve1d(db, kernel / kernel.sum(), mode="nearest"))


def _sounds(one: Balance) -> NDArray[np.bool_]:
    return np.asarray(one.grid_db > np.max(one.grid_db) - NOTES_WITHIN_DB)


def _levelled(db: Array) -> Array:
    return np.asarray(db - np.mean(db))


def _sure_part(difference: Array, unsure: Array) -> Array:
    """Return which part of a difference is taken for true: as a Wiener filter takes signal for noise."""
    square = np.maximum(difference**2 - unsure**2, 0.0)
    return np.asarray(square / np.maximum(difference**2, 1e-9))


def _curve(moves: Iterable[tuple[str, tuple[float, float, float]]], hz: Array) -> Array:
    shapes = {"bell": analog.bell, "low-shelf": analog.low_shelf, "high-shelf": analog.high_shelf}
    sections = [shapes[shape](*figures) for shape, figures in moves]
    return power_to_db(np.abs(analog.response(sections, hz)) ** 2)


def _curve_of(moves: Sequence[Drawn], hz: Array) -> Array:
    return _curve([(move.kind, (move.hz, move.gain_db, move.q)) for move in moves], hz)


def _as_move(shape: Shape, hz: float, gain_db: float, q: float) -> Drawn:
    kinds: dict[Shape, type[Drawn]] = {"bell": Bell, "low-shelf": LowShelf, "high-shelf": HighShelf}
    kind = kinds[shape]
    return kind(hz=round(hz, 1), gain_db=round(gain_db, 2), q=round(q, 3))


class _Fit:
    """Moves added one by one, each where it helps most; after each, all of them are fitted together."""

    def __init__(
        self, wanted: Array, closer: Array | None, weight: Array, *, limit_db: float, low_hz: float, high_hz: float
    ) -> None:
        self._wanted, self._closer, self._weight = wanted, closer, weight
        self._limit_db = limit_db
        self._octaves = np.log2(low_hz), np.log2(high_hz)
        self._sharpest = Q_LIMITS[1] if closer is not None else SHARPEST_OF_NOTES
        self._shapes: list[Shape] = []
        self._figures = np.zeros(0)  # octave, gain, octave of q, of each
        self._level = 0.0

    def found(self) -> list[tuple[Shape, tuple[float, float, float]]]:
        return self._read(self._figures, self._shapes)

    def grow(self, most: int) -> None:
        """Add moves up to a number, and keep the first so many of them that all that follow are not worth it."""
        found = [(self._rms(self._figures, []), self._figures, self._shapes)]
        while len(self._shapes) < most:
            best = min(range(len(found)), key=lambda at: found[at][0])
            if best < len(found) - WORTHLESS or not self._add():
                break
            cost = self._rms(self._figures, self._shapes) + LEAST_BETTER_DB * len(self._shapes)
            found.append((cost, self._figures, self._shapes))
        _, self._figures, self._shapes = min(found, key=lambda one: one[0])

    def _add(self) -> bool:
        """Add the move that helps most; returns whether there is any place for one."""
        residual = self._residual(self._figures, self._shapes)[: len(GRID_HZ)]
        best: tuple[float, Array, list[Shape]] | None = None
        for shape, octave, gain_db in self._candidates(residual):
            shapes = [*self._shapes, shape]
            figures = self._fitted(np.concatenate([self._figures, [octave, gain_db, 0.0]]), shapes)
            error = self._rms(figures, shapes)
            if best is None or error < best[0]:
                best = error, figures, shapes
        if best is None:
            return False
        _, self._figures, self._shapes = best
        return True

    def _candidates(self, residual: Array) -> Iterable[tuple[Shape, float, float]]:
        low, high = self._octaves
        at = np.log2(GRID_HZ)
        usable = (at >= low) & (at <= high) & (self._weight > 0.0)
        if not usable.any():
            return
        for sign in (1.0, -1.0):
            index = int(np.argmax(np.where(usable, sign * residual, -np.inf)))
            yield "bell", float(at[index]), float(np.clip(residual[index], -self._limit_db, self._limit_db))
        if "low-shelf" not in self._shapes:
            yield "low-shelf", low + 1.5, float(np.clip(np.mean(residual[usable][:STEPS]), -4.0, 4.0))
        if "high-shelf" not in self._shapes:
            yield "high-shelf", high - 1.5, float(np.clip(np.mean(residual[usable][-STEPS:]), -4.0, 4.0))

    def _fitted(self, figures: Array, shapes: list[Shape]) -> Array:
        # Imported late: nobody else needs what it loads.
        from scipy.optimize import least_squares

        n, (low, high) = len(shapes), self._octaves
        bounds = (
            np.tile([low, -self._limit_db, np.log2(Q_LIMITS[0])], n),
            np.tile([high, self._limit_db, np.log2(self._sharpest)], n),
        )
        cost = GAIN_COST if self._closer is not None else GAIN_COST_OF_NOTES
        start = np.clip(figures, bounds[0] + 1e-6, bounds[1] - 1e-6)

        def errors(figures: Array) -> Array:
            return np.concatenate([self._weighted(figures, shapes), self._held(figures, shapes), cost * figures[1::3]])

        return np.asarray(
            least_squares(errors, start, bounds=bounds, x_scale=np.tile([0.5, 2.0, 0.5], n), max_nfev=25).x
        )

    def _residual(self, figures: Array, shapes: list[Shape]) -> Array:
        curve = _curve(self._read(figures, shapes), GRID_HZ) if shapes else np.zeros(len(GRID_HZ))
        left = [self._wanted - _smoothed(curve)]
        if self._closer is not None:
            left.append(CLOSER * (self._closer - _smoothed(curve, 1.0 / 3.0)))
        return np.concatenate([one - np.average(one, weights=self._weight) for one in left])

    def _held(self, figures: Array, shapes: list[Shape]) -> Array:
        """Return (grid,) how far notes are drawn beyond the limit by several moves together."""
        if self._closer is not None:
            return np.zeros(0)
        beyond = np.maximum(np.abs(_curve(self._read(figures, shapes), GRID_HZ)) - self._limit_db, 0.0)
        return np.asarray(HELD_WEIGHT * beyond / np.sqrt(len(GRID_HZ)))

    def _weighted(self, figures: Array, shapes: list[Shape]) -> Array:
        left = self._residual(figures, shapes)
        return np.asarray(left * np.sqrt(np.resize(self._weight, left.size) / self._weight.sum()))

    def _rms(self, figures: Array, shapes: list[Shape]) -> float:
        return float(np.sqrt(np.sum(self._weighted(figures, shapes) ** 2)))

    def _read(self, figures: Array, shapes: list[Shape]) -> list[tuple[Shape, tuple[float, float, float]]]:
        rows = figures.reshape(-1, 3)
        return [(shape, (2.0**at, gain, 2.0**q)) for shape, (at, gain, q) in zip(shapes, rows.tolist(), strict=True)]
