"""How far what the finder says of its sureness is true: faults planted into clean phrases, distorted ones, and mixes.

    .venv/bin/python bench/finder/confidence.py [--files 240] [--write]

Wants what bench/places.py wants. `--write` saves the table in docs/figures.md.
"""

import argparse
import sys
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1]))

import itertools

import numpy as np
from places import FOLDER, through
from report import conclude, machine_line, table

from finder.corpus import phrase_of
from finder.phrases import RATE
from mivlo.core.engine.source import ArraySource
from mivlo.core.finder.suspects import find
from mivlo.core.units import Array

SORTS = ("plain", "distorted", "mix")
N_PHRASES, SECONDS, MIXED = 200, 10, 6
SAME_CENTS = 60.0
LOWEST = 0.03
BINS = (0.03, 0.1, 0.2, 0.35, 0.5, 0.65, 0.8, 0.9, 1.0)
LEAST_IN_BIN = 80


@dataclass(frozen=True, slots=True)
class Told:
    """A suspect: in which sort of sound, how sure the finder is, and whether it was planted."""

    sort: str
    confidence: float
    is_true: bool
    spread: float


def clean(part: str, index: int) -> Array:
    """Return a phrase as mono, at one level."""
    x = np.asarray(phrase_of(part, index % N_PHRASES, FOLDER).samples, dtype=np.float64).mean(axis=0, keepdims=True)
    x = np.tile(x, (1, -(-SECONDS * RATE // x.shape[1])))[:, : SECONDS * RATE]
    return np.asarray(x / (np.sqrt(np.mean(x**2)) + 1e-9) * 0.05)


def sound_of(index: int, part: str) -> tuple[str, Array]:
    """Return a sound of one of the sorts, without faults."""
    sort, random = SORTS[index % len(SORTS)], np.random.default_rng((index, 3))
    if sort == "plain":
        return sort, clean(part, index)
    if sort == "distorted":
        x = clean(part, index)
        return sort, 0.1 * np.tanh(x / np.abs(x).max() * float(random.uniform(4.0, 20.0)))
    numbers = random.choice(N_PHRASES, MIXED, replace=False)
    return sort, np.sum([clean(part, int(one)) * 10 ** (random.uniform(-6, 6) / 20) for one in numbers], axis=0)


def told(work: tuple[int, str]) -> list[Told]:
    """Return what is told of a sound with two faults."""
    index, part = work
    random = np.random.default_rng((index, 4))
    sort, x = sound_of(index, part)
    bells = []
    for _ in range(2):
        hz = float(np.exp(random.uniform(np.log(200), np.log(7_000))))
        bells.append((hz, float(random.uniform(6, 14)), float(np.exp(random.uniform(np.log(6), np.log(30))))))
    y = through(x, bells)
    found = find(ArraySource(y), start=0, end=y.shape[1], sample_rate_hz=RATE)
    return [
        Told(
            sort, one.confidence, any(abs(1_200 * np.log2(one.hz / hz)) <= SAME_CENTS for hz, _, _ in bells),
            one.share_of_time,
        )
        for one in found.suspects
        if one.behaviour != "burst" and one.confidence >= LOWEST
    ]  # fmt: skip


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--files", type=int, default=240)
    parser.add_argument("--write", action="store_true")
    given = parser.parse_args()
    with ProcessPoolExecutor(2) as pool:
        rows = [one for some in pool.map(told, [(index, "test") for index in range(given.files)]) for one in some]
    lines = []
    for low, high in itertools.pairwise(BINS):
        inside = [one for one in rows if low <= one.confidence < high]
        by_sort = [[one.is_true for one in inside if one.sort == sort] for sort in SORTS]
        said = f"{np.mean([one.confidence for one in inside]):.2f}" if inside else "-"
        true = f"{np.mean([one.is_true for one in inside]):.2f}" if inside else "-"
        few = " (few)" if len(inside) < LEAST_IN_BIN else ""
        each = ["-" if not one else f"{np.mean(one):.2f} of {len(one)}" for one in by_sort]
        lines.append((f"{low:g} to {high:g}", said, f"{true} of {len(inside)}{few}", *each))
    how = f"{given.files} sounds of the test banks, two lines of 6 to 14 dB planted in each; {len(rows)} suspects."
    conclude(
        "confidence", "## How sure", machine_line("bench/finder/confidence.py"), how,
        table(lines, ("said", "mean said", "true", *SORTS)), write=given.write,
    )  # fmt: skip


if __name__ == "__main__":
    main()
