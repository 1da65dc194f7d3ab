"""What the plane at full amount takes from clean music: the partials of phrases that sampled instruments play.

    .venv/bin/python bench/plane.py [--write]

Wants Debian's fluidsynth and the packages of the test banks (finder/phrases.py). `--write` saves the table in
docs/figures.md.
"""

import argparse
import sys
from collections import defaultdict
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))

import numpy as np
from finder.phrases import INSTRUMENTS, RATE, TEST_BANKS, Instrument, draw_notes, render_notes
from report import conclude, machine_line, table

from mivlo.core.engine.render import render_moves
from mivlo.core.engine.source import ArraySource
from mivlo.core.moves.plane import Plane
from mivlo.core.units import Array

SECONDS = 12.0
ONSET_S, SHORTEST_S = 0.03, 0.12  # of a note that is left out, and of a note that counts
HIGHEST_HZ, MOST_PARTIALS, DOWN_TO_DB = 12_000.0, 24, -40.0
PLAYED_OFTEN = 3
GOAL_DB = -1.5

Partial = tuple[int, int]  # note and number of the partial


def changes_db(bank_number: int, instrument: Instrument) -> dict[Partial, list[float]]:
    """Return what became of each partial, one value for each time that its note was played."""
    bank = TEST_BANKS[bank_number]
    notes = draw_notes(instrument, np.random.default_rng((instrument.program, bank_number)), SECONDS)
    x = render_notes(bank, instrument, notes, SECONDS)
    y = np.concatenate(list(render_moves(ArraySource(x), [Plane()], sample_rate_hz=RATE)), axis=1)
    found: dict[Partial, list[float]] = defaultdict(list)
    for start_s, end_s, note, _ in notes:
        if min(end_s, SECONDS) - start_s < SHORTEST_S:
            continue
        part = slice(round((start_s + ONSET_S) * RATE), round(min(end_s, SECONDS) * RATE))
        before, after = (power(s[:, part]) for s in (x, y))
        freqs_hz = np.fft.rfftfreq(part.stop - part.start, 1 / RATE)
        f0_hz = 440.0 * 2.0 ** ((note - 69) / 12.0)
        for number in range(1, MOST_PARTIALS + 1):
            band = np.abs(freqs_hz - number * f0_hz) < max(0.015 * number * f0_hz, 6.0)
            if number * f0_hz < HIGHEST_HZ and before[band].max() > 10 ** (DOWN_TO_DB / 10) * before.max():
                found[note, number].append(10 * float(np.log10(after[band].sum() / before[band].sum())))
    return found


def power(x: Array) -> Array:
    """Return (bins,) of (channels, frames), the channels added."""
    return np.asarray(np.sum(np.abs(np.fft.rfft(x * np.hanning(x.shape[1]), axis=1)) ** 2, axis=0))


def main() -> None:
    """Print the table, and write it down where asked."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--write", action="store_true")
    options = parser.parse_args()
    banks = [number for number, bank in enumerate(TEST_BANKS) if bank.melodic]
    work = [(number, instrument) for instrument in INSTRUMENTS for number in banks]
    by_name: dict[str, list[dict[Partial, list[float]]]] = defaultdict(list)
    with ProcessPoolExecutor(2) as pool:
        for (_, instrument), found in zip(work, pool.map(changes_db, *zip(*work, strict=True)), strict=True):
            by_name[instrument.name].append(found)
    rows, under = [], 0
    for name, files in by_name.items():
        values = [value for found in files for partial in found.values() for value in partial]
        often = [
            float(np.mean(partial)) for found in files for partial in found.values() if len(partial) >= PLAYED_OFTEN
        ]
        under += sum(mean < GOAL_DB for mean in often)
        share = 100 * float(np.mean(np.array(often) < GOAL_DB)) if often else 0.0
        rows.append((name, "-1.5 dB", f"{np.mean(values):.2f} dB; {share:.0f} % of {len(often)}"))
    conclude(
        "plane on music",
        "## The plane on clean music",
        machine_line("bench/plane.py"),
        f"At full amount, all partials down to {-DOWN_TO_DB:.0f} dB under the loudest, {SECONDS:.0f} s of each of "
        f"{len(banks)} banks, chords where the instrument plays them. *Measured*: the mean change of all partials, and "
        f"the share of the partials played {PLAYED_OFTEN} times or more that lose over 1.5 dB on average.",
        table(rows),
        write=options.write,
    )


if __name__ == "__main__":
    main()
