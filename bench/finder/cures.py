"""Measures what the finder's proposals do to planted faults, beside the same phrases without them.

    .venv/bin/python bench/finder/cures.py --folder /tmp/corpus [--phrases 120] [--write]

Wants what score.py wants. `--write` saves the table in docs/figures.md.
"""

import argparse
import sys
from collections import defaultdict
from collections.abc import Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1]))

import numpy as np
from report import conclude, machine_line, table

from finder.corpus import phrase_of
from finder.faults import Fault, draw_fault, plant
from finder.phrases import RATE
from finder.score import answer_to, case_of
from mivlo.core.engine.render import render_moves
from mivlo.core.engine.source import ArraySource
from mivlo.core.finder.level_map import BANDS_PER_OCTAVE, LevelMap, active_frames, level_map, loud_frames
from mivlo.core.finder.proposals import DEEPEST_DB
from mivlo.core.finder.stretch import Suspect
from mivlo.core.finder.suspects import find
from mivlo.core.finder.verify import BeforeAndAfter, measure_again
from mivlo.core.units import Array, q_to_octaves

KINDS = ("line", "line", "loud line", "hump", "harsh")
HEADROOM = 0.25  # of full scale: a fault of 15 dB more does not clip
THERE_DB, NOT_THERE_DB = 3.0, 1.0  # by how much a fault changes its band in a moment in which it is there, or is not
NARROWEST_BANDS, WIDEST_BANDS = 1, 12  # either side of a fault's middle, of what is measured


@dataclass(frozen=True, slots=True)
class Cured:
    """One fault that was found: as it is, as it was told, and what its proposed move did, in dB and octaves."""

    fault: Fault
    excess_error_db: float
    q_error_octaves: float
    there_db: float
    left_db: float
    elsewhere_db: float
    verdict: str
    over_cut: bool


def of_phrase(work: tuple[int, Path]) -> list[Cured]:
    """Return what became of one fault of each kind, each planted alone into a phrase of the test part."""
    index, folder = work
    random = np.random.default_rng((index, 5))
    clean = np.asarray(phrase_of("test", index, folder).samples, dtype=np.float64)
    clean *= min(1.0, HEADROOM / float(np.max(np.abs(clean))))
    done = []
    for kind in KINDS:
        for _ in range(12):
            planted, fault = plant(clean, draw_fault(kind, random, part="test"), rate=RATE)
            if fault.counts:
                break
        else:
            continue
        suspects = find(ArraySource(planted), start=0, end=planted.shape[1], sample_rate_hz=RATE).suspects
        answer = answer_to(fault, suspects)
        if answer is not None:
            done.append(_cured(clean, planted, fault, answer))
    return done


def _cured(clean: Array, planted: Array, fault: Fault, answer: Suspect) -> Cured:
    source = ArraySource(planted)
    treated = np.concatenate(list(render_moves(source, [answer.move], sample_rate_hz=RATE)), axis=1)
    maps = [
        level_map(ArraySource(x), start=0, end=clean.shape[1], sample_rate_hz=RATE) for x in (clean, planted, treated)
    ]
    was, full, now = (_level_db(one, fault) for one in maps)
    active = active_frames(maps[1])
    counted = loud_frames(maps[1], active) if fault.loud_only else active
    there, not_there = active[(full - was)[active] >= THERE_DB], active[(full - was)[active] < NOT_THERE_DB]
    band = int(np.argmin(np.abs(np.log2(maps[0].hz / fault.hz))))
    true_db = float(np.mean((maps[1].levels_db - maps[0].levels_db)[counted, band]))
    cure = measure_again(
        BeforeAndAfter(source, ArraySource(treated), sample_rate_hz=RATE),
        kind=answer.kind, hz=answer.hz, q=answer.q, behaviour=answer.behaviour, times=answer.times,
        start=0, end=clean.shape[1],
    )  # fmt: skip
    return Cured(
        fault,
        abs(answer.excess_db - true_db),
        abs(float(np.log2(answer.q / fault.q))),
        float(np.mean((full - was)[there])),
        float(np.mean((now - was)[there])),
        float(np.mean((now - full)[not_there])) if len(not_there) else 0.0,
        cure.verdict,
        cure.over_cut,
    )


def _level_db(levels: LevelMap, fault: Fault) -> Array:
    """Return (frames,) the level in the middle half of a fault's width."""
    band = int(np.argmin(np.abs(np.log2(levels.hz / fault.hz))))
    reach = int(np.clip(round(0.25 * q_to_octaves(fault.q) * BANDS_PER_OCTAVE), NARROWEST_BANDS, WIDEST_BANDS))
    middle = levels.levels_db[:, max(band - reach, 0) : band + reach + 1]
    return np.asarray(10.0 * np.log10(np.mean(10.0 ** (middle / 10.0), axis=1)))


def row_of(name: str, of_kind: Sequence[Cured]) -> tuple[str, ...]:
    """Return a row of the table."""
    excess_db, q_octaves, there_db, left_db, elsewhere_db = (
        np.array([getattr(one, name) for one in of_kind])
        for name in ("excess_error_db", "q_error_octaves", "there_db", "left_db", "elsewhere_db")
    )
    low, middle, high = np.percentile((there_db - left_db) / np.minimum(there_db, DEEPEST_DB), (10, 50, 90))
    cured, over_cut = (np.mean([one.verdict == "cured" for one in of_kind]), np.mean([one.over_cut for one in of_kind]))
    return (
        f"{name} ({len(of_kind)})", f"{np.median(excess_db):.1f} dB, {np.median(q_octaves):.2f} octaves",
        f"{there_db.mean():.1f} to {left_db.mean():.1f} dB", f"{middle:.2f} ({low:.2f} to {high:.2f})",
        f"{elsewhere_db.mean():.1f} dB", f"{100 * cured:.0f} %, {100 * over_cut:.0f} %",
    )  # fmt: skip


def main() -> None:
    """Print the table, and write it down where asked."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--folder", type=Path, required=True)
    parser.add_argument("--phrases", type=int, default=120)
    parser.add_argument("--write", action="store_true")
    options = parser.parse_args()
    with ProcessPoolExecutor(2) as pool:
        work = [(index, options.folder) for index in range(options.phrases)]
        found = [one for part in pool.map(of_phrase, work) for one in part]
    by_kind: dict[str, list[Cured]] = defaultdict(list)
    for one in found:
        by_kind[case_of(one.fault)].append(one)
    conclude(
        "proposals",
        "## What the proposals do",
        machine_line("bench/finder/cures.py"),
        f"Faults planted one at a time into {options.phrases} phrases of the test part; of those found, the proposed "
        "move, beside the phrase as it is without the fault. Wanted is its true excess, up to the 8 dB that a proposal "
        "may take.",
        table(
            [row_of(name, of_kind) for name, of_kind in sorted(by_kind.items())],
            head=(
                "fault",
                "error of excess and Q, median",
                "true excess while it is there",
                "taken of what is wanted, median (10 to 90 %)",
                "change while it is not there",
                "read as cured, as over-cut",
            ),
        ),
        write=options.write,
    )


if __name__ == "__main__":
    main()
