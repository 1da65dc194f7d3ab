"""The benchmark's files: phrases with and without planted faults, drawn anew from a seed; the phrases are kept."""

import pickle
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import partial
from pathlib import Path

import numpy as np
import soxr
from scipy.signal import butter, oaconvolve, sosfilt

from finder.built import draw_bodies, draw_built
from finder.faults import Fault, draw_fault, draw_shell, plant
from finder.kits import draw_kit, draw_recordings
from finder.models import draw_model
from finder.phrases import (
    FURTHER_BANKS,
    RATE,
    TEST_BANKS,
    TRAINING_BANKS,
    Bank,
    Phrase,
    draw_drums,
    draw_instrument,
    draw_phrase,
)
from mivlo.core.filters.matched import high_shelf, plain_bell
from mivlo.core.units import Array

__all__ = ["CASES", "Item", "items_of_phrase", "phrase_of"]

# A file of lines has two of them on average; what is fitted on has more of the rarer faults.
CASES = {
    "test": ("line", "hump", "line", "loud line", "line", "harsh", "line", "clean"),
    "training": (
        "line",
        "hump",
        "loud line",
        "line",
        "harsh",
        "line",
        "hump",
        "clean",
        "line",
        "loud line",
        "hump",
        "line",
        "harsh",
        "line",
        "loud line",
        "clean",
    ),
}
# Of what is fitted on, so many phrases are of no bank: from formulas, from kits of recordings, from physical models.
ELSEWHERE = {draw_built: 0.17, draw_kit: 0.13, draw_model: 0.13}
# Of what is fitted on, these phrases are strokes, and some of their lines are shells that outlast them.
STROKES_AMONG = range(1_074, 1_400)
STROKES = {draw_bodies: 0.5, draw_drums: 0.35, draw_kit: 0.15}
SHELLS = 0.4
# Of what is fitted on, these phrases are of further banks.
FURTHER_AMONG = range(2_850, 4_500)
FURTHER: dict[Callable[..., Phrase], float] = {partial(draw_drums, among=FURTHER_BANKS): 0.18, draw_recordings: 0.1}
LENGTHS_S = (7.0, 18.0)  # of a phrase
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


def items_of_phrase(part: str, index: int, *, variants: int, folder: Path, longer: int = 1) -> Iterator[Item]:
    """Yield some files made of one phrase of "training" or "test", each with other faults or none; `longer` times as
    long."""
    phrase = phrase_of(part, index, folder, longer)
    for variant in range(variants):
        # So that the cases are spread over the phrases evenly, however few of them each phrase has.
        number = index * variants + variant
        case = CASES[part][number % len(CASES[part])]
        shells = SHELLS if part == "training" and index in STROKES_AMONG else 0.0
        yield _item(phrase, part, f"{part}-{index}-{variant}", case, np.random.default_rng((number, 7)), shells)


def phrase_of(part: str, index: int, folder: Path, longer: int = 1) -> Phrase:
    """Return a phrase of "training" or "test", `longer` times as long as others; it is kept."""
    path = folder / (f"{part}-{index}.pickle" if longer == 1 else f"{part}-{index}-{longer}.pickle")
    if path.exists():
        return pickle.loads(path.read_bytes())  # type: ignore[no-any-return]
    banks, shares = _drawn_from(part, index)
    random = np.random.default_rng((index, part == "test"))
    weights = np.array([1.0 if bank.melodic else 0.25 for bank in banks])
    while True:
        elsewhere = _drawn(shares, random)
        if elsewhere is not None:
            phrase = elsewhere(random, seconds=longer * float(random.uniform(*LENGTHS_S)))
        else:
            bank = banks[random.choice(len(banks), p=weights / weights.sum())]
            instrument = draw_instrument(bank, random, others=part == "training")
            phrase = draw_phrase(bank, instrument, random, seconds=longer * float(random.uniform(*LENGTHS_S)))
        if float(np.sqrt(np.mean(phrase.samples**2))) > 1e-4:  # not every bank has every drum
            break
    folder.mkdir(parents=True, exist_ok=True)
    path.write_bytes(pickle.dumps(phrase))
    return phrase


def _drawn_from(part: str, index: int) -> tuple[tuple[Bank, ...], dict[Callable[..., Phrase], float]]:
    """Return the banks that a phrase may be of, and the shares of what is of none of them."""
    if part == "test":
        return TEST_BANKS, {}
    if index in FURTHER_AMONG:
        return FURTHER_BANKS, FURTHER
    return TRAINING_BANKS, STROKES if index in STROKES_AMONG else ELSEWHERE


def _drawn(shares: dict[Callable[..., Phrase], float], random: np.random.Generator) -> Callable[..., Phrase] | None:
    """Return one of what draws a phrase by its share, or None for the rest of them: a bank."""
    drawn = random.random() if shares else 1.0
    for draw, part in shares.items():
        if drawn < part:
            return draw
        drawn -= part
    return None


def _item(phrase: Phrase, part: str, name: str, case: str, random: np.random.Generator, shells: float) -> Item:
    """Return a phrase with faults; those that do not count are drawn again, a few times."""
    wanted = {"clean": 0, "line": int(random.integers(1, 4))}.get(case, 1)
    samples, faults = phrase.samples if part == "test" else _otherwise(phrase.samples, random), list[Fault]()
    for _ in range(12 * wanted):
        if len(faults) == wanted:
            break
        shell = case == "line" and random.random() < shells
        fault = draw_shell(random) if shell else draw_fault(case, random, part=part)
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
    """Return a phrase as another instrument might sound, or another recording of it.

    Faster or slower with its formants, tilted, with a body of other mild humps; some duller, in noise, driven a little,
    or in a small room, as the banks of other makers are.
    """
    factor = float(2.0 ** random.uniform(-0.35, 0.35))
    moved = soxr.resample(samples.T, RATE, RATE * factor, quality="MQ").T
    corner_hz = float(np.exp(random.uniform(np.log(400), np.log(3_000))))
    shelf = high_shelf(corner_hz, float(random.uniform(-7, 7)), 0.4, sample_rate_hz=RATE)
    sections = [*shelf]
    for _ in range(int(random.integers(0, 4))):
        hz, q = float(np.exp(random.uniform(np.log(150), np.log(8_000)))), float(random.uniform(0.4, 2.0))
        sections.append(plain_bell(hz, float(random.normal(0.0, 1.8)), q, sample_rate_hz=RATE))
    x = np.asarray(sosfilt(np.array([[s.b0, s.b1, s.b2, 1.0, s.a1, s.a2] for s in sections]), moved, axis=1))
    peak = float(np.max(np.abs(x))) + 1e-9
    if random.random() < 0.3:
        x = sosfilt(
            butter(4, float(np.exp(random.uniform(np.log(4_500), np.log(14_000)))), fs=RATE, output="sos"), x, axis=1
        )
    if random.random() < 0.15:
        drive = random.uniform(0.5, 2.0) / peak
        x = np.tanh(drive * x) / drive
    if random.random() < 0.15:
        n = round(random.uniform(0.03, 0.25) * RATE)
        room = random.standard_normal(n) * 10.0 ** (-3.0 * np.arange(n) / n)
        room *= random.uniform(0.1, 0.5) / np.sqrt(np.sum(room**2))
        x = x + oaconvolve(x, room[None], axes=1)[:, : x.shape[1]]
    if random.random() < 0.3:
        x = x + peak * 10.0 ** (random.uniform(-85, -50) / 20.0) * random.standard_normal(x.shape)
    return np.asarray(x, dtype=np.float32)
