"""The place curve, the learnt plane and the survey on phrases of the test banks, with something of known shape laid on.

    .venv/bin/python bench/places.py [--files N] [--write]

Wants Debian's fluidsynth and the packages of the test banks (finder/phrases.py). `--write` saves the tables in
docs/figures.md.
"""

import argparse
import sys
from collections import defaultdict
from collections.abc import Iterable
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))

import numpy as np
from finder.corpus import phrase_of
from finder.faults import draw_fault, plant
from finder.phrases import RATE
from report import conclude, machine_line, table
from scipy.signal import lfilter

from mivlo.core.engine.render import render_moves
from mivlo.core.engine.source import ArraySource
from mivlo.core.filters.matched import plain_bell
from mivlo.core.finder.learning import learn
from mivlo.core.finder.place_curve import SURE, place_curve
from mivlo.core.finder.survey import survey
from mivlo.core.moves import Move
from mivlo.core.moves.plane import Plane
from mivlo.core.units import Array

FOLDER = Path.home() / ".cache" / "mivlo-bench"
SIZE, HOP, WITHIN_DB = 4_096, 1_024, 60.0
FREQS_HZ = np.maximum(np.fft.rfftfreq(SIZE, 1 / RATE), 1.0)
LEAST_CHANGE_DB = 0.5  # what a planted line must do to its surroundings to count
SCARCELY = 0.02
Bell = tuple[float, float, float]  # hz, gain_db, q


@dataclass(frozen=True, slots=True)
class Measured:
    """Figures of one file; NaN for what could not be measured in it."""

    instrument: str
    curve_rms_db: float
    curve_likeness: float
    halves_rms_db: float
    old_taken: float
    taken: float
    harsh_taken: float
    changed_db: float
    drafted: float
    survey_taken: float
    survey_changed_db: float


def measured(index: int) -> Measured:
    """Return the figures of a phrase of the test banks."""
    phrase = phrase_of("test", index, FOLDER)
    x = np.asarray(phrase.samples, dtype=np.float64)
    random = np.random.default_rng((index, 23))
    line = (_between(random, 600, 9_000), float(random.uniform(7, 14)), _between(random, 8, 30))
    y = through(x, [line])
    near = np.abs(np.log2(FREQS_HZ / line[0])) < 1.0 / 6.0
    above, middle = (FREQS_HZ > 600) & (FREQS_HZ < 10_000), (FREQS_HZ > 300) & (FREQS_HZ < 8_000)
    whole = {"start": 0, "end": x.shape[1], "sample_rate_hz": RATE}
    drafts, clean = (survey(ArraySource(s), **whole).cuts for s in (y, x))
    counts = away_db(y, x, near) > LEAST_CHANGE_DB
    off = [abs(float(np.log2(cut.move.hz / line[0]))) for cut in drafts]
    nothing = float("nan")
    return Measured(
        phrase.instrument.name,
        *_curves(x, random),
        old_taken=taken(y, x, near, [Plane()]) if counts else nothing,
        taken=taken(y, x, near, [learnt(y)]) if counts else nothing,
        harsh_taken=_harsh(x, random),
        changed_db=away_db(run(x, [learnt(x)]), x, above),
        drafted=float(min(off, default=9.0) < max(0.05, 0.72 / line[2])) if counts else nothing,
        survey_taken=taken(y, x, near, [cut.move for cut in drafts]) if counts else nothing,
        survey_changed_db=away_db(run(x, [cut.move for cut in clean]), x, middle),
    )


def _between(random: np.random.Generator, low: float, high: float) -> float:
    return float(np.exp(random.uniform(np.log(low), np.log(high))))


def _curves(x: Array, random: np.random.Generator) -> tuple[float, float, float]:
    """Return how far the difference of two curves lies from an equalizer, how alike they are, and how far two halves
    of the clean track are apart."""
    bells = [
        (_between(random, 200, 9_000), float(random.choice((-1, 1)) * random.uniform(6, 12)), _between(random, 2, 30))
        for _ in range(3)
    ]
    sounds = (x, through(x, bells), *np.array_split(x, 2, axis=1))
    dry, wet, one, other = (place_curve(ArraySource(s), start=0, end=s.shape[1], sample_rate_hz=RATE) for s in sounds)
    inside = (dry.hz > 300) & (dry.hz < 8_000)
    sure = inside & (np.minimum(dry.sure, wet.sure) >= SURE)
    both = inside & (np.minimum(one.sure, other.sure) >= SURE)
    z = np.exp(-2j * np.pi * dry.hz / RATE)
    truth = np.zeros(len(dry.hz))
    for bell in bells:
        s = plain_bell(*bell, sample_rate_hz=RATE)
        truth += 20.0 * np.log10(np.abs((s.b0 + s.b1 * z + s.b2 * z**2) / (1.0 + s.a1 * z + s.a2 * z**2)))
    seen = wet.db - dry.db
    nothing = float("nan")
    return (
        float(np.sqrt(np.mean((seen - truth)[sure] ** 2))) if sure.sum() > 20 else nothing,
        float(np.corrcoef(seen[sure], truth[sure])[0, 1]) if sure.sum() > 20 else nothing,
        float(np.sqrt(np.mean((one.db - other.db)[both] ** 2))) if both.sum() > 20 else nothing,
    )


def _harsh(x: Array, random: np.random.Generator) -> float:
    """Return how much of a harshness that is there only when it is loud a learnt plane takes away."""
    for _ in range(8):
        fault = draw_fault("harsh", random, part="test")
        y, fault = plant(x, fault, rate=RATE)
        if fault.counts:
            near = np.abs(np.log2(FREQS_HZ / fault.hz)) < 1.0 / 3.0
            return taken(np.asarray(y, dtype=np.float64), x, near, [learnt(y)])
    return float("nan")


def through(x: Array, bells: Iterable[Bell]) -> Array:
    """Return (channels, frames) behind some bells."""
    for bell in bells:
        s = plain_bell(*bell, sample_rate_hz=RATE)
        x = np.asarray(lfilter([s.b0, s.b1, s.b2], [1.0, s.a1, s.a2], x, axis=1))
    return x


def learnt(x: Array) -> Plane:
    """Return a plane at full amount that has learned from a sound."""
    found = learn(ArraySource(x), start=0, end=x.shape[1], sample_rate_hz=RATE, low_hz=600.0, high_hz=10_000.0)
    return found.in_plane(Plane())


def run(x: Array, moves: list[Move]) -> Array:
    """Return (channels, frames) behind some moves."""
    return np.concatenate(list(render_moves(ArraySource(x), moves, sample_rate_hz=RATE)), axis=1)


def taken(y: Array, twin: Array, part: Array, moves: list[Move]) -> float:
    """Return which part of the distance of y from its untouched twin some moves take away."""
    return 1.0 - away_db(run(y, moves), twin, part) / away_db(y, twin, part)


def away_db(x: Array, twin: Array, part: Array) -> float:
    """Return the mean distance of x from its twin in part of the bins, where the twin is within 60 dB of its top."""
    one, other = _levels_db(x), _levels_db(twin)
    heard = other[:, part] > other.max() - WITHIN_DB
    return float(np.abs(one - other)[:, part][heard].mean()) if heard.any() else 0.0


def _levels_db(x: Array) -> Array:
    windows = np.lib.stride_tricks.sliding_window_view(x, SIZE, axis=1)[:, ::HOP] * np.hanning(SIZE)
    return np.asarray(10.0 * np.log10(np.mean(np.abs(np.fft.rfft(windows, axis=2)) ** 2, axis=0) + 1e-12))


def main() -> None:
    """Print the tables, and write them down where asked."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--files", type=int, default=200)
    parser.add_argument("--write", action="store_true")
    options = parser.parse_args()
    with ProcessPoolExecutor(2) as pool:
        files = list(pool.map(measured, range(options.files)))

    def of(name: str, among: list[Measured] = files) -> Array:
        values = np.array([getattr(one, name) for one in among], dtype=np.float64)
        return values[~np.isnan(values)]

    def worse(name: str) -> str:
        return f"{100 * np.mean(of(name) < -SCARCELY):.0f} %"

    rows = [
        ("curve: from the equalizer", "2.5 dB", f"{np.median(of('curve_rms_db')):.2f} dB"),
        ("curve: correlation with it", "0.7", f"{np.median(of('curve_likeness')):.2f}"),
        ("curve: two halves apart", "2 dB", f"{np.median(of('halves_rms_db')):.2f} dB"),
        ("plane, not learnt: taken; worse", "", f"{np.median(of('old_taken')):.2f}; {worse('old_taken')}"),
        ("plane, learnt: taken; worse", "0.35; 5 %", f"{np.median(of('taken')):.2f}; {worse('taken')}"),
        ("plane, learnt: harshness taken", "0.4", f"{np.median(of('harsh_taken')):.2f}"),
        ("plane, learnt: clean twins changed", "0.35 dB", f"{np.mean(of('changed_db')):.2f} dB"),
        ("survey: lines drafted", "70 %", f"{100 * np.mean(of('drafted')):.0f} %"),
        ("survey: taken", "0.25", f"{np.median(of('survey_taken')):.2f}"),
        ("survey: clean tracks changed", "0.3 dB", f"{np.mean(of('survey_changed_db')):.2f} dB"),
    ]
    by_name: dict[str, list[Measured]] = defaultdict(list)
    for one in files:
        by_name[one.instrument].append(one)
    each = [
        (name, "0.35", f"{np.median(values):.2f} of {len(values)}")
        for name, some in sorted(by_name.items())
        if len(values := of("taken", some))
    ]
    conclude(
        "places",
        "## Places: the curve, the learnt plane, the survey",
        machine_line("bench/places.py"),
        f"{len(files)} phrases of the test banks. Curve: three bells of 6 to 12 dB up or down, Q 2 to 30, 300 Hz to 8 "
        "kHz, where it says it is sure; medians. Plane and survey: one line of 7 to 14 dB, Q 8 to 30, 600 Hz to 9 kHz; "
        "*taken*: of the distance to the untouched twin within a sixth of an octave, median; *worse*: files in which "
        "it grew by over 2 %. Harshness as the finder's benchmark plants it, within a third of an octave.",
        table(rows) + "\n\nA learnt plane by instrument:\n\n" + table(each),
        write=options.write,
    )


if __name__ == "__main__":
    main()
