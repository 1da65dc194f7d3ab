"""Measures the yields that are drafted for planted clashes, on the sound rendered with them.

    .venv/bin/python bench/ensemble/yields.py [--part test] [--arrangements 72] [--write]

Wants what score.py wants. `--write` saves the table in docs/figures.md.
"""

import sys
from dataclasses import dataclass
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1]))

import numpy as np
from finder.phrases import RATE
from report import conclude, machine_line, table

from ensemble.arrangements import HOW, draw_arrangement
from ensemble.over_arrangements import over_arrangements
from mivlo.core.engine.mix import Mix
from mivlo.core.engine.render import render_track
from mivlo.core.engine.source import ArraySource
from mivlo.core.ensemble.clashes import find_clashes
from mivlo.core.ensemble.contest import Contest, contest_between, outcome
from mivlo.core.ensemble.erb_map import ErbMap, erb_map
from mivlo.core.ensemble.hearing import CENTRES_HZ
from mivlo.core.ensemble.listening import MixedTrack, full_scale_db_spl, hear
from mivlo.core.ensemble.proof import NOTHING_PERCENT, prove
from mivlo.core.ensemble.yielding import Contender, Region, Terms, draft_yield
from mivlo.core.model import LedgerEntry, Track
from mivlo.core.units import Array

CAP_DB = 4.0
GOAL_COST_PERCENT = 10.0
STEP_DB, DEEPEST_STEPS, BESIDE = 6.0, 4, 2  # of the cheapest cut of any shape: bands beside the region count too


@dataclass(frozen=True, slots=True)
class Measured:
    """What one yield gave: parts of what could be won, and what the other lost."""

    how: str
    regained: float
    cost_percent: float
    capped_regained: float
    depth_db: float
    least_cost_percent: float
    audible_at_cap: bool  # whether any cut within the cap wins what the product would not call nothing


def map_of(samples: Array) -> ErbMap:
    """Return a track's map."""
    return erb_map(ArraySource(samples), start=0, end=samples.shape[1], sample_rate_hz=RATE)


def least_cost_percent(contest: Contest, part: float) -> float:
    """Return about the least that a cut of any shape must cost to win a part of what can be won: a bound for every
    bell.

    Band by band, greedily: always the step that wins most for what it costs.
    """
    n_bands, region = len(CENTRES_HZ), contest.region
    gain, gone = np.ones(n_bands), np.ones(n_bands)
    gone[region] = 0.0
    rest = now = outcome(contest, gain)
    target = rest.front + part * (outcome(contest, gone).front - rest.front)
    bands = range(max(region.start - BESIDE, 0), min(region.stop + BESIDE, n_bands))
    deepest = 10.0 ** (-STEP_DB * (DEEPEST_STEPS + 0.5) / 10.0)
    while now.front < target:
        tried = []
        for band in bands:
            for steps in (1, DEEPEST_STEPS):
                cut = gain.copy()
                cut[band] *= 10.0 ** (-STEP_DB * steps / 10.0)
                if cut[band] > deepest:
                    there = outcome(contest, cut)
                    tried.append(((there.front - now.front) / max(now.yielding - there.yielding, 1e-9), cut, there))
        if not tried:
            break
        _, gain, now = max(tried, key=lambda one: one[0])
    return 100.0 * (1.0 - now.yielding / max(rest.yielding, 1e-9))


def measured(work: tuple[str, int]) -> Measured | None:
    """Return what the yield for an arrangement's first clash gives; None where none was planted, or another one named
    first."""
    arrangement = draw_arrangement(*work)
    tracks = [MixedTrack(map_of(part.samples)) for part in arrangement.parts]
    full_scale_db = full_scale_db_spl(tracks)
    heard = hear(tracks, full_scale_db=full_scale_db)
    clashes = find_clashes(heard)
    planted = arrangement.planted
    if planted is None or not clashes or (clashes[0].hidden, clashes[0].by) != (planted.hidden, planted.by):
        return None
    clash, front, by = clashes[0], planted.hidden, planted.by
    low_hz, high_hz = clash.low_hz, clash.high_hz
    contest = contest_between(
        tracks, heard, front=front, yielding=by, full_scale_db=full_scale_db, low_hz=low_hz, high_hz=high_hz
    )
    assert contest is not None
    flat, gone = np.ones(len(CENTRES_HZ)), np.ones(len(CENTRES_HZ))
    flat[contest.region], gone[contest.region] = 10.0 ** (-CAP_DB / 10.0), 0.0
    rest, at_cap, at_best = (outcome(contest, gain).front for gain in (np.ones(len(CENTRES_HZ)), flat, gone))
    parts = {str(index): part for index, part in enumerate(arrangement.parts)}

    def gained(limit_db: float) -> tuple[float, float, float]:
        """Return the gain in sone in the region, what the other lost in per cent, and the depth, as rendered."""
        contenders = [
            Contender(index, str(index), ArraySource(arrangement.parts[index].samples), 0.0, None)
            for index in (front, by)
        ]
        drafted = draft_yield(
            tracks,
            heard,
            Region(low_hz, high_hz, clash.times),
            Terms(part=0.5 if limit_db > CAP_DB else 1.0, limit_db=limit_db),
            front=contenders[0],
            yielding=contenders[1],
            full_scale_db=full_scale_db,
            sample_rate_hz=RATE,
        )
        strips = [Track(id=name, audio_id=name) for name in parts]
        strips[by] = strips[by].model_copy(update={"ledger": (LedgerEntry(id="y", move=drafted.move),)})
        blocks = render_track(
            Mix(tracks=tuple(strips)), str(by), lambda name: ArraySource(parts[name].samples), start=0,
            end=parts[str(by)].samples.shape[1], sample_rate_hz=RATE,
        )  # fmt: skip
        treated = list(tracks)
        treated[by] = MixedTrack(map_of(np.concatenate(list(blocks), axis=1)))
        after = hear(treated, full_scale_db=full_scale_db)
        proof = prove(heard, after, front=front, yielding=by, low_hz=low_hz, high_hz=high_hz)
        return proof.gained_sone, proof.cost_percent, float(getattr(drafted.move, "depth_db", 0.0))

    free, cost, depth_db = gained(24.0)
    capped, _, _ = gained(CAP_DB)
    own = float(heard.loudness[front][heard.sounding[front] & heard.sounding[by]][:, contest.region].sum(axis=1).mean())
    return Measured(
        planted.how, free / max(at_best - rest, 1e-9), cost, capped / max(at_cap - rest, 1e-9), depth_db,
        least_cost_percent(contest, 0.5), 100.0 * (at_cap - rest) >= NOTHING_PERCENT * own,
    )  # fmt: skip


def _both(median: float, worst: float) -> str:
    return f"{median:.2f}, {worst:.2f}"


def _part(goals: np.ndarray) -> str:
    return f"{np.mean(goals):.0%} of {len(goals)}" if len(goals) else "none"


def main() -> None:
    """Print the table, and write it down where asked."""
    found, which, write = over_arrangements(measured, about=__doc__, arrangements=72)
    rows = []
    for name, hows in (("all", HOW), *((f"by {how}", (how,)) for how in HOW)):
        chosen = [one for one in found if one is not None and one.how in hows]
        free, cost, depth_db, least = (
            np.array([getattr(one, field) for one in chosen])
            for field in ("regained", "cost_percent", "depth_db", "least_cost_percent")
        )
        capped = np.array([one.capped_regained for one in chosen if one.audible_at_cap])
        cheap = cost[least < GOAL_COST_PERCENT]
        rows += [
            (
                f"{name}: regained of what any cut could win, no cap (median, least)",
                "0.5",
                _both(np.median(free), free.min()),
            ),
            (f"{name}: share of those at 0.5 or more", "all", _part(free >= 0.5)),
            (f"{name}: the other's loss then, per cent (median, most)", "10", _both(np.median(cost), cost.max())),
            (
                f"{name}: the least that any shape of cut would cost (median, most)",
                "",
                _both(np.median(least), least.max()),
            ),
            (f"{name}: it stays under 10 where some shape of cut could", "all", _part(cheap < GOAL_COST_PERCENT)),
            (
                f"{name}: of what any cut of 4 dB could win (median, least)",
                "0.8",
                _both(np.median(capped), capped.min()),
            ),
            (f"{name}: share of those at 0.8 or more", "all", _part(capped >= 0.8)),
            (f"{name}: depth without a cap, dB (median, most)", "", _both(np.median(depth_db), depth_db.min())),
        ]
    conclude(
        "yields", "## Yields", machine_line("bench/ensemble/yields.py"),
        f"{which}; where 4 dB could win less than 2 % of the hidden track's loudness, what they win is not counted.",
        table(rows), write=write,
    )  # fmt: skip


if __name__ == "__main__":
    main()
