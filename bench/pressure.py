"""What comes back behind a compressor, on phrases of the test banks with a ring that was cut to 2 dB below its outline.

    .venv/bin/python bench/pressure.py [--files N] [--write]

Wants Debian's fluidsynth and the packages of the test banks (finder/phrases.py). `--write` saves the table in
docs/figures.md.
"""

import argparse
import sys
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))

import numpy as np
from finder.corpus import phrase_of
from finder.phrases import RATE
from places import FOLDER, run, through
from report import conclude, machine_line, table
from scipy.signal import lfilter

from mivlo.core.engine.source import ArraySource
from mivlo.core.finder.coming_back import Untreated, back_db, comes_back, loudness_change_db
from mivlo.core.finder.suspects import find
from mivlo.core.kernels import SUBSTEP_FRAMES
from mivlo.core.loudness import integrated_loudness
from mivlo.core.model import Evidence
from mivlo.core.moves.base import slice_bell
from mivlo.core.moves.bell import Bell
from mivlo.core.moves.compressor import Compressor
from mivlo.core.processors.stage import Context
from mivlo.core.units import Array

LATER = Compressor(threshold_db=-34.0, ratio=6.0, attack_ms=4.0, release_ms=90.0, knee_db=4.0, makeup_db=9.0)
RIGHT_DB, LEAST_ODDS = 0.5, 0.15
# Their gain changes while a narrow band still rings with what came into it before: a gain at the moment says little,
# and what the band itself has before and behind it is the yardstick that holds.
STROKES = ("kick", "kit", "snare", "toms", "cymbals")


@dataclass(frozen=True, slots=True)
class Measured:
    """Of one phrase: how far what was told is from what the gain trace says, and from what its band has of both
    sounds; how many suspects of the clean phrase are accused of coming back."""

    instrument: str
    off_db: float
    off_of_band_db: float
    accused: int


def measured(index: int) -> Measured:
    """Return the figures of a phrase."""
    phrase = phrase_of("test", index, FOLDER)
    x = np.asarray(phrase.samples, dtype=np.float64)
    x = x[:, : x.shape[1] // 64 * 64]
    random = np.random.default_rng((index, 24))
    hz, q = float(np.exp(random.uniform(np.log(300), np.log(3_000)))), float(random.uniform(10, 25))
    y = through(x, [(hz, 10.0, q)])
    off = run(y, [Bell(hz=hz, gain_db=-12.0, q=q)])
    on, gain_db = compressed(off)
    evidence = Evidence(kind="ring", hz=hz, q=q, excess_db=10.0, start_s=0.0, end_s=x.shape[1] / RATE)
    moments = Untreated(ArraySource(y), offset_s=0.0, sample_rate_hz=RATE).moments_of(evidence)
    sources = ArraySource(off), ArraySource(on)
    louder_db = loudness_change_db(*sources, sample_rate_hz=RATE)
    told = back_db(*sources, evidence, moments, louder_db=louder_db, sample_rate_hz=RATE)
    s = slice_bell(hz, q * 10.0 ** (10.0 / 40.0), RATE)[0]
    band, behind = (
        np.sum(lfilter([s.b0, s.b1, s.b2], [1.0, s.a1, s.a2], one, axis=1) ** 2, axis=0) for one in (off, on)
    )
    inside = np.zeros(x.shape[1], dtype=bool)
    for first, last in moments.frames:
        inside[first:last] = True
    gained = [np.sum(one[inside]) / np.sum(band[inside]) for one in (band * 10.0 ** (gain_db / 10.0), behind)]
    levels = [integrated_loudness(one, sample_rate_hz=RATE) or 0.0 for one in (off, on)]
    by_gain_db, by_band_db = 10.0 * np.log10(gained) - (levels[1] - levels[0])
    return Measured(phrase.instrument.name, abs(told - by_gain_db), abs(told - by_band_db), accused(x))


def compressed(x: Array) -> tuple[Array, Array]:
    """Return a sound behind the compressor, and its gain in dB at every frame."""
    stage = LATER.stage("c", on=True, keepers=(), sample_rate_hz=RATE).make(len(x), RATE)
    y = stage.process(x.copy(), Context(0))
    trace = stage.trace()
    assert trace is not None
    return y, np.repeat(trace.gain_db, SUBSTEP_FRAMES) + LATER.makeup_db


def accused(x: Array) -> int:
    """Return how many suspects of a clean phrase are said to come back, with a firm compressor."""
    source = ArraySource(x)
    start = next(one for one in Compressor.starts if one.label == "firm")
    on = ArraySource(run(x, [Compressor.model_validate(start.values)]))
    louder_db = loudness_change_db(source, on, sample_rate_hz=RATE)
    count = 0
    for one in find(source, start=0, end=x.shape[1], sample_rate_hz=RATE).suspects:
        if one.confidence >= LEAST_ODDS:
            evidence = Evidence(
                kind=one.kind, hz=one.hz, q=one.q, excess_db=one.excess_db, start_s=0.0, end_s=x.shape[1] / RATE,
                times=one.times, behaviour=one.behaviour,
            )  # fmt: skip
            moments = Untreated(source, offset_s=0.0, sample_rate_hz=RATE).moments_of(evidence)
            back = back_db(source, on, evidence, moments, louder_db=louder_db, sample_rate_hz=RATE)
            count += comes_back(back, one.excess_db)
    return count


def main() -> None:
    """Print the table, and write it down where asked."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--files", type=int, default=60)
    parser.add_argument("--write", action="store_true")
    options = parser.parse_args()
    with ProcessPoolExecutor(2) as pool:
        files = list(pool.map(measured, range(options.files)))
    right = 100.0 * np.mean([one.off_db <= RIGHT_DB for one in files])
    clean = 100.0 * np.mean([one.accused == 0 for one in files])
    pitched = 100.0 * np.mean([one.off_db <= RIGHT_DB for one in files if one.instrument not in STROKES])
    of_band = 100.0 * np.mean([one.off_of_band_db <= RIGHT_DB for one in files])
    rows = [
        ("within 0.5 dB of what the compressor's own gain says", "90 %", f"{right:.0f} %"),
        ("the same, of what is no drum", "90 %", f"{pitched:.0f} %"),
        ("within 0.5 dB of what the band has before and behind the compressor (scipy)", "", f"{of_band:.0f} %"),
        ("furthest from what the gain says", "", f"{max(one.off_db for one in files):.2f} dB"),
        ("clean phrases accused of nothing", "67 %", f"{clean:.0f} %"),
    ]
    conclude(
        "pressure",
        "## What comes back",
        machine_line("bench/pressure.py"),
        f"{len(files)} phrases of the test banks, each with a ring of 10 dB, Q 10 to 25, cut by 12 dB; a compressor of "
        "6:1 behind it. Clean phrases behind the *firm* start.",
        table(rows),
        write=options.write,
    )


if __name__ == "__main__":
    main()
