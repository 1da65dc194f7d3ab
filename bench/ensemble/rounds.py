"""Scores the order of the round: sessions of 12 tracks with 6 faults that are heard in the mix and 6 that are covered.

    .venv/bin/python bench/ensemble/rounds.py [--sessions 12] [--first 18] [--write]

Heard and covered by the yardstick of in_mix.py. Wants what bench/places.py wants. `--write` saves the table in
docs/figures.md. The order was chosen on the sessions up to number 17: they are no test of it.
"""

import argparse
import sys
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1]))

import numpy as np
from finder.phrases import RATE
from places import through
from report import conclude, machine_line, table

from ensemble.in_mix import PLAINEST, session
from ensemble.noise_to_mask import FULL_SCALE_DB_SPL, noise_to_mask_db
from mivlo.core.engine.source import ArraySource
from mivlo.core.ensemble.erb_map import erb_map, frame_s
from mivlo.core.ensemble.in_mix import fault_powers, in_mix
from mivlo.core.ensemble.listening import MixedTrack, full_scale_db_spl
from mivlo.core.finder.suspects import find
from mivlo.core.round.order import fault_of, weight_of
from mivlo.core.units import Array

HEARD_FROM_DB, COVERED_TO_DB = 3.0, -3.0
GAINS_DB = (16.0, 13.0, 10.0, 7.0, 5.0)
SAME_CENTS, FIRST_ROWS, EACH = 60.0, 12, 6


@dataclass(frozen=True, slots=True)
class Planted:
    """A fault of a track: heard in the mix, or covered."""

    track: int
    hz: float
    is_heard: bool


@dataclass(frozen=True, slots=True)
class Scored:
    """Of one session: the rows' places of the faults that are heard, and how many pairs stand the right way round."""

    heard_at: list[int | None]
    right_pairs: int
    n_pairs: int


def planted(index: int) -> tuple[list[Array], list[str], list[Planted]]:
    """Return tracks with faults, their roles, and the faults."""
    parts, random = session(index), np.random.default_rng((index, 25))
    roles, clean = [role for role, _ in parts], [x for _, x in parts]
    mixed = np.sum(clean, axis=0)
    maps = [MixedTrack(erb_map(ArraySource(x[None]), start=0, end=len(x), sample_rate_hz=RATE)) for x in clean]
    level = 10.0 ** ((full_scale_db_spl(maps) - 3.01 - FULL_SCALE_DB_SPL) / 20.0)
    tracks = list(clean)
    faults: list[Planted] = []
    for track in random.permutation(len(clean)):
        wants_heard = sum(one.is_heard for one in faults) < EACH
        for _ in range(12):
            hz = float(np.exp(random.uniform(np.log(200), np.log(6_000))))
            gain_db, q = float(random.choice(GAINS_DB)), float(np.exp(random.uniform(np.log(6), np.log(25))))
            faulty = through(clean[track][None], [(hz, gain_db, q)])[0]
            ratios = np.sort(
                noise_to_mask_db(level * mixed, level * (mixed - clean[track] + faulty), sample_rate_hz=RATE)
            )
            ratio = float(ratios[-max(round(PLAINEST * len(ratios)), 1) :].mean())
            if ratio >= HEARD_FROM_DB if wants_heard else ratio <= COVERED_TO_DB:
                tracks[track] = faulty
                faults.append(Planted(int(track), hz, wants_heard))
                break
    return tracks, list(roles), faults


def scored(index: int) -> Scored:
    """Return where the faults of a session stand in its round."""
    tracks, roles, faults = planted(index)
    maps = [MixedTrack(erb_map(ArraySource(x[None]), start=0, end=len(x), sample_rate_hz=RATE)) for x in tracks]
    full_scale_db = full_scale_db_spl(maps)
    rows = []
    for number, x in enumerate(tracks):
        source = ArraySource(x[None])
        found = find(source, start=0, end=len(x), sample_rate_hz=RATE, role=roles[number])  # type: ignore[arg-type]
        powers = fault_powers(
            source, [fault_of(one, one.excess_db) for one in found.suspects], maps[number], start=0, sample_rate_hz=RATE
        )
        for suspect, one in zip(found.suspects, powers, strict=True):
            told = in_mix(maps, number, one, full_scale_db=full_scale_db, hop_s=frame_s(RATE))
            rows.append((weight_of(suspect.confidence, told.change_db, told.in_mix_db), number, suspect.hz))
    rows.sort(key=lambda row: -row[0])

    def place(fault: Planted) -> int | None:
        at = (
            place
            for place, (_, track, hz) in enumerate(rows)
            if track == fault.track and abs(1_200.0 * np.log2(hz / fault.hz)) <= SAME_CENTS
        )
        return next(at, None)

    heard_at = [place(fault) for fault in faults if fault.is_heard]
    covered_at = [place(fault) for fault in faults if not fault.is_heard]
    last = len(rows)
    pairs = [(a, b) for a in heard_at for b in covered_at if a is not None or b is not None]
    right = sum((last if a is None else a) < (last if b is None else b) for a, b in pairs)
    return Scored(heard_at, right, len(pairs))


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--sessions", type=int, default=12)
    parser.add_argument("--first", type=int, default=18)
    parser.add_argument("--write", action="store_true")
    given = parser.parse_args()
    with ProcessPoolExecutor(2) as pool:
        told = list(pool.map(scored, range(given.first, given.first + given.sessions)))
    heard = [at for one in told for at in one.heard_at]
    first = np.mean([at is not None and at < FIRST_ROWS for at in heard])
    found = np.mean([at is not None for at in heard])
    pairs = sum(one.right_pairs for one in told) / max(sum(one.n_pairs for one in told), 1)
    rows = [
        (f"heard faults among the first {FIRST_ROWS} rows", "85 %", f"{first:.0%} of {len(heard)}"),
        ("heard faults in the list at all", "", f"{found:.0%}"),
        ("heard above covered, of pairs", "85 %", f"{pairs:.0%} of {sum(one.n_pairs for one in told)}"),
    ]
    limits = f"heard from {HEARD_FROM_DB:g} dB, covered up to {COVERED_TO_DB:g} dB of the noise-to-mask ratio"
    how = f"{len(told)} sessions of 12 tracks of the test banks, from number {given.first} on; {limits}."
    conclude("round", "## The round", machine_line("bench/ensemble/rounds.py"), how, table(rows), write=given.write)


if __name__ == "__main__":
    main()
