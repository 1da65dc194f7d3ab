"""Scores the search for clashes on arrangements in which exactly one pair collides, or none.

    .venv/bin/python bench/ensemble/score.py [--part test] [--arrangements 120] [--write]

Wants Debian's fluidsynth and the packages of the banks (finder/phrases.py). `--write` saves the table in
docs/figures.md.
"""

import sys
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1]))

import numpy as np
from finder.phrases import RATE
from report import conclude, machine_line, table

from ensemble.arrangements import HOW, Arrangement, Planted, draw_arrangement
from ensemble.over_arrangements import over_arrangements
from mivlo.core.engine.source import ArraySource
from mivlo.core.ensemble.clashes import STRONG, Clash, find_clashes
from mivlo.core.ensemble.erb_map import erb_map
from mivlo.core.ensemble.listening import Heard, MixedTrack, full_scale_db_spl, hear


@dataclass(frozen=True, slots=True)
class Scored:
    """What was planted in one arrangement, and what was found."""

    index: int
    bank: str
    planted: Planted | None
    clashes: tuple[Clash, ...]
    names: tuple[str, ...]


def heard_of(arrangement: Arrangement) -> Heard:
    """Return what is heard of an arrangement at the usual listening level."""
    tracks = [
        MixedTrack(erb_map(ArraySource(one.samples), start=0, end=one.samples.shape[1], sample_rate_hz=RATE))
        for one in arrangement.parts
    ]
    return hear(tracks, full_scale_db=full_scale_db_spl(tracks))


def scored(work: tuple[str, int]) -> Scored:
    """Return one arrangement's clashes."""
    arrangement = draw_arrangement(*work)
    names = tuple(part.name for part in arrangement.parts)
    return Scored(work[1], arrangement.bank, arrangement.planted, tuple(find_clashes(heard_of(arrangement))), names)


def overlap(clash: Clash, planted: Planted) -> tuple[float, float]:
    """Return which part of the shorter of both regions is common to both, and which part of their union (octaves)."""
    low, high = max(clash.low_hz, planted.low_hz), min(clash.high_hz, planted.high_hz)
    common = max(np.log2(high / low), 0.0)
    lengths = [np.log2(one.high_hz / one.low_hz) for one in (clash, planted)]
    return common / min(lengths), common / (sum(lengths) - common)


def rows_of(files: Sequence[Scored]) -> list[tuple[str, str, str]]:
    """Return what the goals are about."""
    planted = [one for one in files if one.planted is not None]
    rows = []
    by = {how: [one for one in planted if one.planted and one.planted.how == how] for how in HOW}
    for name, chosen in (("all", planted), *((f"by {how}", by[how]) for how in HOW)):
        right = [
            bool(one.clashes) and one.planted is not None and _same_pair(one.clashes[0], one.planted) for one in chosen
        ]
        regions = [
            overlap(one.clashes[0], one.planted) for one, ok in zip(chosen, right, strict=True) if ok and one.planted
        ]
        rows.append((f"{name}: pair and direction named first", "90 %", f"{np.mean(right):.0%} of {len(chosen)}"))
        half = np.mean([shorter >= 0.5 for shorter, _ in regions]) if regions else 0.0
        union = np.mean([united >= 0.5 for _, united in regions]) if regions else 0.0
        what = f"{name}: region overlaps by half or more (of the shorter / of both together)"
        rows.append((what, "all", f"{half:.0%} / {union:.0%}"))
    clean = [one for one in files if one.planted is None]
    strong = [sum(clash.strength >= STRONG for clash in one.clashes) for one in clean]
    rows.append(
        ("clean arrangements without a strong clash", "all", f"{np.mean(np.array(strong) == 0):.0%} of {len(clean)}")
    )
    return rows


def _same_pair(clash: Clash, planted: Planted) -> bool:
    return (clash.hidden, clash.by) == (planted.hidden, planted.by)


def main() -> None:
    """Print the table, and write it down where asked."""
    files, which, write = over_arrangements(scored, about=__doc__, arrangements=120)
    conclude(
        "clashes",
        "## Clashes",
        machine_line("bench/ensemble/score.py"),
        f"{which}.",
        table(rows_of(files)),
        write=write,
    )


if __name__ == "__main__":
    main()
