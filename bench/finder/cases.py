"""Cues of the benchmark's files beside what was planted, computed once and kept."""

from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from finder.corpus import Item, items_of_phrase
from finder.phrases import RATE
from mivlo.core.engine.source import ArraySource
from mivlo.core.finder.band_cues import band_cues
from mivlo.core.finder.level_map import level_map
from mivlo.core.units import Array

__all__ = ["Case", "load_cases"]


@dataclass(frozen=True, slots=True)
class Case:
    """An item without its samples, and its cues (cues, bands) float16."""

    item: Item
    cues: Array
    names: tuple[str, ...]


def load_cases(part: str, n_phrases: int, variants: int, folder: Path) -> Iterator[Case]:
    """Yield the cases of the first phrases of a part, using both cores."""
    work = [(part, index, variants, folder) for index in range(n_phrases)]
    with ProcessPoolExecutor(2) as pool:
        for path in pool.map(_stored, work):
            with np.load(path, allow_pickle=True) as stored:
                yield from stored["cases"]


def _stored(work: tuple[str, int, int, Path]) -> Path:
    part, index, variants, folder = work
    path = folder / f"cues-{part}-{index}-{variants}.npz"
    if not path.exists():
        cases = [
            case for item in items_of_phrase(part, index, variants=variants, folder=folder) if (case := _case(item))
        ]
        np.savez(path, cases=np.array(cases, dtype=object))
    return path


def _case(item: Item) -> Case | None:
    source = ArraySource(item.samples)
    cues = band_cues(level_map(source, start=0, end=source.n_frames, sample_rate_hz=RATE))
    if cues is None:
        return None
    return Case(replace(item, samples=np.zeros((1, 0))), np.clip(cues.values, -6e4, 6e4).astype(np.float16), cues.names)
