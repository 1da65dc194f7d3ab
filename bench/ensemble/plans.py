"""Scores the plan of the fewest cuts on sessions of 8 and 12 tracks against all subsets and against simpler ways.

    .venv/bin/python bench/ensemble/plans.py [--sessions 30] [--write]

Wants what bench/places.py wants. `--write` saves the table in docs/figures.md.
"""

import argparse
import itertools
import sys
import time
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1]))

import numpy as np
from finder.phrases import RATE
from report import conclude, machine_line, table

from ensemble.in_mix import session
from mivlo.core.engine.source import ArraySource
from mivlo.core.ensemble.clashes import find_clashes
from mivlo.core.ensemble.erb_map import erb_map
from mivlo.core.ensemble.least_cut import Scene, candidates_of, plan_of, scene_of
from mivlo.core.ensemble.listening import MixedTrack, full_scale_db_spl, hear
from mivlo.core.ensemble.right_of_way import first_order

SIZES, EXHAUSTIVE = (3, 6), 12


@dataclass(frozen=True, slots=True)
class Measured:
    """Of one session: how many proposals; the plan's part of the best subset's gain, by size; gain and cost of the plan
    at a third of the moves of all that alone gain, as parts of theirs; its gain beside that of the strongest first."""

    n_candidates: int
    of_best: dict[int, float]
    of_all: tuple[float, float]
    of_strongest: dict[int, float]
    negative: bool
    seconds: float


def measured(work: tuple[int, int]) -> Measured | None:
    """Return the figures of a session; None where there is too little to choose from."""
    index, n_tracks = work
    parts = session(index, n_tracks)
    roles = [role for role, _ in parts]
    tracks = [MixedTrack(erb_map(ArraySource(x[None]), start=0, end=len(x), sample_rate_hz=RATE)) for _, x in parts]
    full_scale_db = full_scale_db_spl(tracks)
    heard = hear(tracks, full_scale_db=full_scale_db)
    clashes, order = find_clashes(heard), first_order(roles)
    firsts = [None if one.by is None else min(one.hidden, one.by, key=order.index) for one in clashes]
    began = time.monotonic()
    candidates = candidates_of(clashes, order, roles, firsts=firsts)
    if len(candidates) < min(SIZES):
        return None
    scene = scene_of(tracks, heard, candidates, order, full_scale_db=full_scale_db, reached=[1.0] * len(candidates))
    plan = plan_of(scene, candidates)
    seconds = time.monotonic() - began
    gains = [step.gain_sone for step in plan.steps]
    of_best = {}
    if len(candidates) <= EXHAUSTIVE:
        for size in SIZES:
            subsets = (
                set_ for n in range(1, size + 1) for set_ in itertools.combinations(range(len(candidates)), n)
            ) if size < len(candidates) else itertools.chain.from_iterable(
                itertools.combinations(range(len(candidates)), n) for n in range(1, len(candidates) + 1)
            )  # fmt: skip
            best = max(scene.heard(frozenset(one))[0] for one in subsets)
            of_best[size] = (gains[:size][-1] if gains else 0.0) / max(best, 1e-9)
    alone = [number for number in range(len(candidates)) if scene.heard(frozenset((number,)))[0] > 0.0]
    all_gain, all_cost = scene.heard(frozenset(alone))
    third = plan.steps[: max(len(alone) // 3, 1)]
    part = (
        (third[-1].gain_sone / all_gain, third[-1].cost_sone / max(all_cost, 1e-9))
        if third and all_gain > 0
        else (1.0, 1.0)
    )
    strongest = {size: gains[:size][-1] / max(gain_of_strongest(scene, size), 1e-9) for size in SIZES if gains}
    negative = any(b < a for a, b in itertools.pairwise([0.0, *gains]))
    return Measured(len(candidates), of_best, part, strongest, negative, seconds)


def gain_of_strongest(scene: Scene, size: int) -> float:
    """Return what the strongest clashes first give, heard anew, those skipped that lose."""
    chosen: frozenset[int] = frozenset()
    gain = 0.0
    for number in range(len(scene.yielding)):
        if len(chosen) == size:
            break
        told, _ = scene.heard(chosen | {number})
        if told > gain:
            chosen, gain = chosen | {number}, told
    return gain


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--sessions", type=int, default=30)
    parser.add_argument("--write", action="store_true")
    given = parser.parse_args()
    works = [(index, (8, 12)[index % 2]) for index in range(given.sessions)]
    with ProcessPoolExecutor(2) as pool:
        rows = [one for one in pool.map(measured, works) if one is not None]

    def median(values: list[float]) -> str:
        return f"{np.median(values):.2f} of {len(values)}" if values else "none"

    def by_size(values: list[dict[int, float]], size: int) -> str:
        return median([one[size] for one in values if size in one])

    of_best, of_strongest = [one.of_best for one in rows], [one.of_strongest for one in rows]
    best = [(f"gain at {size} moves, of the best subset", "0.95", by_size(of_best, size)) for size in SIZES]
    first = [(f"gain at {size} moves, of strongest first", "1.10", by_size(of_strongest, size)) for size in SIZES]
    told = [
        *best,
        ("a third of the moves of all that alone gain: gain", "1", median([one.of_all[0] for one in rows])),
        ("the same: cost", "0.60", median([one.of_all[1] for one in rows])),
        *first,
        ("sessions with a move that loses", "0", str(sum(one.negative for one in rows))),
        ("proposals; seconds for a plan", "", f"{np.median([one.n_candidates for one in rows]):.0f}; "
         f"{np.median([one.seconds for one in rows]):.1f}"),
    ]  # fmt: skip
    how = f"{len(rows)} sessions of 8 and 12 tracks of 8 s of the test banks, roles by instrument."
    conclude(
        "plan", "## The least-cut plan", machine_line("bench/ensemble/plans.py"), how, table(told), write=given.write
    )  # fmt: skip


if __name__ == "__main__":
    main()
