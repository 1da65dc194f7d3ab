"""The benchmark's files: phrases with and without planted faults, drawn anew from a seed; the phrases are kept."""

import pickle
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import soxr
from scipy.signal import sosfilt

from finder.built import draw_built
from finder.faults import Fault, draw_fault, plant
from finder.phrases import RATE, TEST_BANKS, TRAINING_BANKS, Phrase, draw_instrument, draw_phrase
from mivlo.core.filters.matched import high_shelf
from mivlo.core.units import Array

__all__ = ["CASES", "Item", "items_of_phrase"]

# A file of lines has two of them on average; what is fitted on has as many of each fault.
CASES = {
    "test": ("line", "hump", "line", "loud line", "line", "harsh", "line", "clean"),
    "training": ("line", "hump", "loud line", "line", "harsh", "hump", "loud line", "clean"),
}
BUILT_EVERY = 7  # phrases of what is fitted on: one that no bank has
APART = 0.35  # octaves between two lines of one file, at least


@dataclass(frozen=True, slots=True)
class Item:
    """One file: what was played by what, the case it belongs to, and the faults in it that count."""

    name: str
    bank: str
    instrument: str
    role: str
    case: str
    faults: tuple[Fault, ...]
    samples: Array


def items_of_phrase(part: str, index: int, *, variants: int, folder: Path) -> Iterator[Item]:
    """Yield some files made of one phrase of "training" or "test", each with other faults or none."""
    phrase = _phrase(part, index, folder)
    for variant in range(variants):
        # So that the cases are spread over the phrases evenly, however few of them each phrase has.
        number = index * variants + variant
        case = CASES[part][number % len(CASES[part])]
        yield _item(phrase, part, f"{part}-{index}-{variant}", case, np.random.default_rng((number, 7)))


def _phrase(part: str, index: int, folder: Path) -> Phrase:
    path = folder / f"{part}-{index}.pickle"
    if path.exists():
        return pickle.loads(path.read_bytes())  # type: ignore[no-any-return]
    banks = TEST_BANKS if part == "test" else TRAINING_BANKS
    random = np.random.default_rng((index, part == "test"))
    weights = np.array([1.0 if bank.melodic else 0.25 for bank in banks])
    while True:
        if part == "training" and index % BUILT_EVERY == BUILT_EVERY - 1:
            phrase = draw_built(random, seconds=float(random.uniform(7.0, 18.0)))
            break
        bank = banks[random.choice(len(banks), p=weights / weights.sum())]
        instrument = draw_instrument(bank, random, others=part == "training")
        phrase = draw_phrase(bank, instrument, random, seconds=float(random.uniform(7.0, 18.0)))
        if float(np.sqrt(np.mean(phrase.samples**2))) > 1e-4:  # not every bank has every drum
            break
    folder.mkdir(parents=True, exist_ok=True)
    path.write_bytes(pickle.dumps(phrase))
    return phrase


def _item(phrase: Phrase, part: str, name: str, case: str, random: np.random.Generator) -> Item:
    """Return a phrase with faults; those that do not count are drawn again, a few times."""
    wanted = {"clean": 0, "line": int(random.integers(1, 4))}.get(case, 1)
    samples, faults = phrase.samples if part == "test" else _otherwise(phrase.samples, random), list[Fault]()
    for _ in range(12 * wanted):
        if len(faults) == wanted:
            break
        fault = draw_fault(case, random, part=part)
        if any(abs(np.log2(fault.hz / other.hz)) < APART for other in faults):
            continue
        planted, fault = plant(samples, fault, rate=RATE)
        if fault.counts:
            samples = planted
            faults.append(fault)
    peak = max(float(np.max(np.abs(samples))), 1e-9)
    samples = (samples * min(1.0, 0.9 / peak)).astype(np.float32)
    return Item(name, phrase.bank, phrase.instrument.name, phrase.instrument.role, case, tuple(faults), samples)


def _otherwise(samples: Array, random: np.random.Generator) -> Array:
    """Return a phrase as another instrument might sound: faster or slower with its formants, and tilted."""
    factor = float(2.0 ** random.uniform(-0.35, 0.35))
    moved = soxr.resample(samples.T, RATE, RATE * factor, quality="MQ").T
    corner_hz = float(np.exp(random.uniform(np.log(400), np.log(3_000))))
    shelf = high_shelf(corner_hz, float(random.uniform(-7, 7)), 0.4, sample_rate_hz=RATE)
    sos = np.array([[s.b0, s.b1, s.b2, 1.0, s.a1, s.a2] for s in shelf])
    return np.asarray(sosfilt(sos, moved, axis=1), dtype=np.float32)
