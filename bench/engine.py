"""How much of a core the engine needs, as ratios taken in one run.

    .venv/bin/python bench/engine.py
"""

import time
from collections.abc import Callable

import numpy as np
from scipy.signal import sosfilt

from mivlo.core.engine.mix import LedgerEntry, Mix, StripState
from mivlo.core.engine.player import Player
from mivlo.core.engine.source import ArraySource
from mivlo.core.moves.bell import Bell
from mivlo.core.processors.chain import Chain, KeyedSection

RATE = 48_000
CHUNK_FRAMES = 256
REPEATS = 5
BELLS = [Bell(hz=60.0 * 2.0**n, gain_db=-3.0, q=3.0) for n in range(8)]


def best_seconds(work: Callable[[], object]) -> float:
    """Return the shortest of some runs."""
    times = []
    for _ in range(REPEATS):
        started = time.perf_counter()
        work()
        times.append(time.perf_counter() - started)
    return min(times)


def mix_in_chunks(seconds: float) -> float:
    """Return the part of real time that 8 stereo tracks of 8 bells take, in the live monitor's chunks."""
    source = ArraySource(np.random.default_rng(1).standard_normal((2, round((seconds + 2.0) * RATE))))
    ledger = tuple(LedgerEntry(id=f"{n}", move=bell) for n, bell in enumerate(BELLS))
    mix = Mix(tracks=tuple(StripState(id=f"{n}", audio_id="a", ledger=ledger) for n in range(8)))

    def play() -> None:
        player = Player(mix, lambda _: source, start_frame=0, sample_rate_hz=RATE)
        for _ in range(round(seconds * RATE / CHUNK_FRAMES)):
            player.render(CHUNK_FRAMES)

    return best_seconds(play) / seconds


def chain_over_scipy(n_sections: int, seconds: float) -> float:
    """Return how long a steady chain takes over scipy's cascade of the same sections, stereo."""
    x = np.random.default_rng(2).standard_normal((2, round(seconds * RATE)))
    sections = [section for bell in (BELLS * 8)[:n_sections] for section in bell.sections(RATE)]
    sos = np.array([[s.b0, s.b1, s.b2, 1.0, s.a1, s.a2] for s in sections])
    chain = Chain(2, RATE, [KeyedSection(str(n), section) for n, section in enumerate(sections)])
    ours = best_seconds(lambda: chain.process(x.copy()))
    return ours / best_seconds(lambda: sosfilt(sos, x.copy(), axis=1))


def main() -> None:
    """Print the ratios."""
    print(f"8 stereo tracks x 8 bells in chunks of {CHUNK_FRAMES}: {100 * mix_in_chunks(5.0):.1f} % of a core")
    for n_sections in (1, 8, 24):
        print(f"chain of {n_sections} sections over scipy's sosfilt: {chain_over_scipy(n_sections, 5.0):.2f}")


if __name__ == "__main__":
    main()
