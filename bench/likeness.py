"""Likeness on phrases: how much of a hidden equalizer is found by drawing towards another phrase of the instrument.

    .venv/bin/python bench/likeness.py [--phrases 30]

Phrases of the test banks, two of one instrument, other notes. One
of them is shaped by a hidden equalizer; drawn towards the other one, so much of the equalizer is left (1: all of it).
Of two unshaped phrases, it is told by how much the one is changed.
"""

import argparse
from collections.abc import Iterable, Iterator

import numpy as np
from finder.phrases import RATE, TEST_BANKS, draw_instrument, draw_notes, render_notes

from mivlo.core.engine.render import render_moves
from mivlo.core.engine.source import ArraySource
from mivlo.core.filters.biquad import frequency_response
from mivlo.core.moves.base import StaticMove
from mivlo.core.moves.bell import Bell
from mivlo.core.moves.high_shelf import HighShelf
from mivlo.core.moves.low_shelf import LowShelf
from mivlo.core.proof.likeness import balance_of, drawn_towards
from mivlo.core.units import Array, power_to_db

__all__ = ["curve_db", "hidden_equalizer", "main"]

HZ = 60.0 * 2.0 ** np.arange(0.0, np.log2(12_000.0 / 60.0), 1.0 / 24.0)
SECONDS, MOST_DRAWS, FIRST = 20.0, 400, 31


def hidden_equalizer(random: np.random.Generator) -> list[Bell | LowShelf | HighShelf]:
    """Return four random bells and a shelf, each within 6 dB either way, Q 0.5 to 2."""

    def figures(low: float, high: float) -> dict[str, float]:
        hz = 2.0 ** random.uniform(np.log2(low), np.log2(high))
        return {"hz": float(hz), "gain_db": float(random.uniform(-6, 6)), "q": float(random.uniform(0.5, 2.0))}

    shelf = (LowShelf, HighShelf)[int(random.integers(2))]
    return [*(Bell(**figures(80, 10_000)) for _ in range(4)), shelf(**figures(100, 8_000))]


def curve_db(moves: Iterable[StaticMove]) -> Array:
    """Return what moves do, in dB at HZ, its mean taken off."""
    sections = [section for move in moves for section in move.sections(RATE)]
    curve = power_to_db(np.abs(frequency_response(sections, HZ, sample_rate_hz=RATE)) ** 2)
    return np.asarray(curve - np.mean(curve))


def rms(x: Array) -> float:
    """Return the root of the mean square."""
    return float(np.sqrt(np.mean(x**2)))


def pairs(n: int) -> Iterator[tuple[str, list[Array], np.random.Generator]]:
    """Yield instruments, and two phrases of each that sound at all."""
    found = 0
    for seed in range(MOST_DRAWS):
        random = np.random.default_rng([FIRST, seed])
        bank = TEST_BANKS[seed % len(TEST_BANKS)]
        instrument = draw_instrument(bank, random)
        both = [render_notes(bank, instrument, draw_notes(instrument, random, SECONDS), SECONDS) for _ in range(2)]
        if min(np.sqrt(np.mean(one**2)) for one in both) > 1e-4:
            yield f"{bank.name}, {instrument.name}", both, random
            found += 1
        if found == n:
            return


def main() -> None:
    """Print what is left of each hidden equalizer, and by how much unshaped phrases are changed."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--phrases", type=int, default=30)
    left, changed = [], []
    for name, (one, other), random in pairs(parser.parse_args().phrases):
        target = balance_of([other], sample_rate_hz=RATE)
        plain = drawn_towards(balance_of([one], sample_rate_hz=RATE), target)
        changed.append(rms(curve_db(plain.moves)) if plain.moves else 0.0)
        hidden = hidden_equalizer(random)
        shaped = np.concatenate(list(render_moves(ArraySource(one), hidden, sample_rate_hz=RATE)), axis=1)
        drawn = drawn_towards(balance_of([shaped], sample_rate_hz=RATE), target)
        rest = curve_db(hidden) + (curve_db(drawn.moves) if drawn.moves else 0.0)
        left.append(rms(rest) / rms(curve_db(hidden)))
        print(
            f"{name}: {left[-1]:.2f} left of {rms(curve_db(hidden)):.1f} dB; unshaped {changed[-1]:.2f} dB", flush=True
        )
    print(f"left, median: {np.median(left):.2f} (goal 0.50); changed, median {np.median(changed):.2f}, "
          f"largest {np.max(changed):.2f} dB (goal 1.50)")  # fmt: skip


if __name__ == "__main__":
    main()
