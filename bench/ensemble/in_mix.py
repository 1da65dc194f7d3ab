"""Scores how much a fault is heard in the mix against a noise-to-mask ratio: faults planted in sessions of 12 tracks.

    .venv/bin/python bench/ensemble/in_mix.py [--faults 200] [--write]

Wants what bench/places.py wants. `--write` saves the table in docs/figures.md.
"""

import argparse
import sys
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import cast

sys.path.insert(0, str(Path(__file__).parents[1]))

import numpy as np
from finder.corpus import phrase_of
from finder.phrases import RATE
from places import FOLDER, through
from report import conclude, machine_line, table
from scipy.stats import rankdata, spearmanr

from ensemble.noise_to_mask import FULL_SCALE_DB_SPL, noise_to_mask_db
from mivlo.core.engine.source import ArraySource
from mivlo.core.ensemble.erb_map import erb_map, frame_s
from mivlo.core.ensemble.in_mix import Fault, fault_powers, in_mix
from mivlo.core.ensemble.listening import LISTENING_DB_SPL, MixedTrack, full_scale_db_spl
from mivlo.core.loudness import integrated_loudness
from mivlo.core.roles import Role
from mivlo.core.units import Array

N_TRACKS, PER_SESSION, N_PHRASES = 12, 5, 200
SECONDS = 8
PLAINEST = 0.1


def session(index: int, n_tracks: int = N_TRACKS) -> list[tuple[Role, Array]]:
    """Return phrases with their roles, each from 32 LUFS to 20 below full scale, mono."""
    random = np.random.default_rng((index, n_tracks))
    tracks: list[tuple[Role, Array]] = []
    for number in random.choice(N_PHRASES, 2 * n_tracks, replace=False):
        phrase = phrase_of("test", int(number), FOLDER)
        x = np.asarray(phrase.samples, dtype=np.float64).mean(axis=0)
        loudness = integrated_loudness(x[None], sample_rate_hz=RATE)
        if loudness is None or len(tracks) == n_tracks:
            continue
        x = np.tile(x, -(-SECONDS * RATE // len(x)))[: SECONDS * RATE]
        level = 10.0 ** ((random.uniform(-32.0, -20.0) - loudness) / 20.0)
        tracks.append((cast(Role, phrase.instrument.role), level * x))
    return tracks


def measured(index: int) -> list[tuple[float, float, float]]:
    """Return, for each fault of a session, `change_db`, `in_mix_db` and the noise-to-mask ratio in dB."""
    tracks, random = [x for _, x in session(index)], np.random.default_rng((index, 13))
    maps = [MixedTrack(erb_map(ArraySource(x[None]), start=0, end=len(x), sample_rate_hz=RATE)) for x in tracks]
    full_scale_db = full_scale_db_spl(maps)
    # The yardstick is told the same level of listening.
    level = 10.0 ** ((full_scale_db - 3.01 - FULL_SCALE_DB_SPL) / 20.0)
    found = []
    for own in random.choice(N_TRACKS, PER_SESSION, replace=False):
        hz = float(np.exp(random.uniform(np.log(150), np.log(7_000))))
        gain_db, q = float(random.uniform(4, 14)), float(np.exp(random.uniform(np.log(3), np.log(25))))
        faulty = through(tracks[own][None], [(hz, gain_db, q)])
        heard = list(maps)
        heard[own] = MixedTrack(erb_map(ArraySource(faulty), start=0, end=faulty.shape[1], sample_rate_hz=RATE))
        fault = Fault(((hz, gain_db, q),))
        [powers] = fault_powers(ArraySource(faulty), [fault], heard[own], start=0, sample_rate_hz=RATE)
        told = in_mix(heard, int(own), powers, full_scale_db=full_scale_db, hop_s=frame_s(RATE))
        clean = np.sum(tracks, axis=0)
        mixed = clean - tracks[own] + faulty[0]
        ratios = np.sort(noise_to_mask_db(level * clean, level * mixed, sample_rate_hz=RATE))
        yardstick = float(ratios[-max(round(PLAINEST * len(ratios)), 1) :].mean())
        found.append((told.change_db, told.in_mix_db, yardstick))
    return found


def area_under_curve(scores: Array, is_true: np.ndarray) -> float:
    """Return how often a true one has the higher score."""
    ranks, n = rankdata(scores), int(is_true.sum())
    return float((ranks[is_true].sum() - n * (n + 1) / 2.0) / max(n * (len(scores) - n), 1))


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--faults", type=int, default=200)
    parser.add_argument("--write", action="store_true")
    given = parser.parse_args()
    with ProcessPoolExecutor(2) as pool:
        rows = [one for some in pool.map(measured, range(-(-given.faults // PER_SESSION))) for one in some]
    change, _, yardstick = (np.array(values) for values in zip(*rows, strict=True))
    order = float(spearmanr(change, yardstick).statistic)
    area = area_under_curve(change, yardstick > 0.0)
    words = [f"{np.mean(yardstick[part] > 0.0):.0%} of {part.sum()}" if part.any() else "none"
             for part in (change >= 1.5, (change >= 0.5) & (change < 1.5), change < 0.5)]  # fmt: skip
    rows_told = [
        ("rank correlation of `change_db` with the ratio", "0.85", f"{order:.2f}"),
        ("area under the curve, ratio above 0 dB", "0.95", f"{area:.2f}"),
        ("plain, faint, lost: ratio above 0 dB", "", ", ".join(words)),
    ]
    how = (
        f"{len(rows)} faults in sessions of {N_TRACKS} tracks of the test banks; yardstick: noise-to-mask ratio after "
        f"ITU-R BS.1387, listened to at {LISTENING_DB_SPL:g} dB SPL."
    )
    conclude(
        "heard in the mix", "## Heard in the mix", machine_line("bench/ensemble/in_mix.py"), how, table(rows_told),
        write=given.write,
    )  # fmt: skip


if __name__ == "__main__":
    main()
