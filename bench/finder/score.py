"""Scores the finder on planted faults in instruments that it was not fitted on.

    .venv/bin/python bench/finder/score.py --folder /tmp/corpus [--phrases 480] [--write]

Wants Debian's fluidsynth, espeak-ng and the packages of the test banks (finder/phrases.py). `--write` saves the tables
in docs/figures.md.
"""

import argparse
import sys
import time
from collections import defaultdict
from collections.abc import Callable, Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1]))

import numpy as np
from report import conclude, machine_line, table
from scipy.ndimage import maximum_filter1d

from finder.corpus import Item, items_of_phrase
from finder.faults import Fault, hits
from finder.phrases import RATE
from finder.voices import draw_voice
from mivlo.core.engine.source import ArraySource
from mivlo.core.finder.stretch import Suspect
from mivlo.core.finder.suspects import find
from mivlo.core.spectra.average import AXIS_HZ, band_levels, stand_out

FIRST = 5  # suspects that count
EVENT_S = 0.03
SURE = 0.5
HUMP_KINDS = ("boom", "mud", "boxy", "honk")
VARIANTS = 2
PLAIN_FINDS = 0.7  # of the lines, by the issue that set the goals
N_VOICES = 40
LONGER, N_LONG = 5, 120  # phrases that last so many times as long, nearer to a song than to a loop
LOWEST_HZ, HIGHEST_HZ = 120.0, 10_000.0  # where the plain method looks


@dataclass(frozen=True, slots=True)
class Scored:
    """One file's item, its suspects without their pictures, and where the plain method looks first."""

    item: Item
    suspects: tuple[Suspect, ...]
    plain_hz: tuple[float, ...]


def plain_method(samples: np.ndarray) -> tuple[float, ...]:
    """Return the places of the average spectrum that stand highest above its smoothed outline, highest first, for
    comparison."""
    proud = stand_out(band_levels(np.asarray(samples, dtype=np.float64), sample_rate_hz=RATE))
    inside = (AXIS_HZ > LOWEST_HZ) & (AXIS_HZ < HIGHEST_HZ)
    tops = np.flatnonzero((proud >= maximum_filter1d(proud, 5)) & inside & (proud > 6.0))
    return tuple(float(AXIS_HZ[top]) for top in tops[np.argsort(-proud[tops])])


def scored(work: tuple[int, Path, int]) -> list[Scored]:
    """Return the files of a phrase, so many times as long, with what was found in them."""
    index, folder, longer = work
    found = []
    for item in items_of_phrase("test", index, variants=VARIANTS, folder=folder, longer=longer):
        source = ArraySource(item.samples)
        findings = find(source, start=0, end=source.n_frames, sample_rate_hz=RATE)
        slim = tuple(replace(suspect, around_hz=(), around_db=()) for suspect in findings.suspects)
        found.append(Scored(replace(item, samples=np.zeros((1, 0))), slim, plain_method(item.samples)))
    return found


def answer_to(fault: Fault, suspects: Sequence[Suspect]) -> Suspect | None:
    """Return the first suspect that names a fault: a line by its place, a wide one by place and kind."""
    for suspect in suspects:
        named = {
            "harsh": suspect.kind == "harsh" and suspect.behaviour == "when-loud",
            "hump": suspect.kind in HUMP_KINDS and suspect.behaviour == "steady",
        }.get(fault.kind, suspect.q >= 3.0)
        if named and hits(fault, suspect.hz):
            return suspect
    return None


def plain_finds(fault: Fault, one: Scored) -> bool:
    """Tell whether the plain method has a line among its first places."""
    return any(hits(fault, hz) for hz in one.plain_hz[:FIRST])


def case_of(fault: Fault) -> str:
    """Return the name of a fault's row."""
    if fault.kind == "line":
        return "lines, modes that ring" if fault.mode_s else "lines, boosts"
    return {"loud line": "loud-only lines", "hump": "wide humps", "harsh": "wide loud-only harshness"}[fault.kind]


def share(values: Sequence[bool]) -> str:
    """Return a share with the number that it is of."""
    return f"{100 * float(np.mean(values)):.0f} % of {len(values)}" if values else "none"


def by(files: Sequence[Scored], key: Callable[[Item, Fault], str]) -> str:
    """Return a table of the shares found among the first five, by whatever a key says."""
    groups: dict[str, list[bool]] = defaultdict(list)
    for one in files:
        for fault in one.item.faults:
            groups[key(one.item, fault)].append(answer_to(fault, one.suspects[:FIRST]) is not None)
    return "\n".join(
        ["| | found |", "|---|---|", *(f"| {name} | {share(hits)} |" for name, hits in sorted(groups.items()))]
    )


def events_rows() -> list[tuple[str, str, str]]:
    """Return how plosives and sibilants planted into synthetic voices are found."""
    rows = []
    counts = {kind: [0, 0, 0] for kind in ("plosive", "sibilance")}
    for seed in range(N_VOICES):
        samples, planted = draw_voice(np.random.default_rng((seed, 11)))
        found = find(ArraySource(samples), start=0, end=samples.shape[1], sample_rate_hz=RATE, role="lead voice").events
        for kind, count in counts.items():
            truth, told = ([e for e in events if e.kind == kind] for events in (planted, found))
            count[0] += len(truth)
            count[1] += sum(any(abs(e.start_s - t.start_s) <= EVENT_S for e in told) for t in truth)
            count[2] += sum(not any(abs(e.start_s - t.start_s) <= EVENT_S for t in truth) for e in told)
    for kind, (n, hit, false) in counts.items():
        rows.append((f"{kind}, found within 30 ms", "90 %", f"{100 * hit / n:.0f} % of {n}"))
        rows.append((f"{kind}, false of all told", "under 10 %", f"{100 * false / max(hit + false, 1):.1f} %"))
    return rows


def in_plain_material(files: Sequence[Scored]) -> list[bool]:
    """Return of which lines the finder finds, in the instruments that are easiest for the plain method.

    So many of them as leave it the share that the issue says that it finds: there a goal is as hard as it was meant.
    """
    lines: dict[str, list[tuple[bool, bool]]] = defaultdict(list)
    for one in files:
        for fault in (fault for fault in one.item.faults if "line" in fault.kind):
            ours = answer_to(fault, one.suspects[:FIRST]) is not None
            lines[one.item.instrument].append((plain_finds(fault, one), ours))
    taken: list[tuple[bool, bool]] = []
    for of_one in sorted(lines.values(), key=lambda pairs: -float(np.mean([plain for plain, _ in pairs]))):
        if np.mean([plain for plain, _ in taken + of_one]) < PLAIN_FINDS:
            break
        taken += of_one
    return [found for _, found in taken]


def rows_of(files: Sequence[Scored]) -> list[tuple[str, str, str]]:
    """Return the goals of the issue with what was measured."""
    found: dict[str, list[bool]] = defaultdict(list)
    told_right: dict[str, list[bool]] = defaultdict(list)
    cents, gains, plain = [], [], []
    for one in files:
        for fault in one.item.faults:
            answer = answer_to(fault, one.suspects[:FIRST])
            found[case_of(fault)].append(answer is not None)
            if "line" not in fault.kind:
                continue
            found["all lines"].append(answer is not None)
            plain.append(plain_finds(fault, one))
            if answer is not None:
                cents.append(abs(1_200.0 * float(np.log2(answer.hz / fault.hz))))
                told_right["loud" if fault.loud_only else "steady"].append(
                    (answer.behaviour == "when-loud") == fault.loud_only
                )
                if not fault.loud_only:
                    gains.append(abs(answer.excess_db - fault.gain_db))
    clean = [one for one in files if one.item.case == "clean"]
    sure = [sum(suspect.confidence > SURE for suspect in one.suspects) for one in clean]
    goals = {"wide humps": "80 %", "wide loud-only harshness": "80 %", "all lines": "90 %"}
    rows = [(f"{name}, among the first five", goals.get(name, ""), share(hits)) for name, hits in sorted(found.items())]
    return [
        *rows,
        ("lines, error of the frequency, median", "under 12 cents", f"{np.median(cents):.1f} cents"),
        ("lines, error of the excess, median", "", f"{np.median(gains):.1f} dB"),
        ("clean files with at most one suspect over one half", "all", share([n <= 1 for n in sure])),
        ("clean files, suspects over one half, mean", "", f"{np.mean(sure):.2f}"),
        (
            "loud-only lines told from steady",
            "80 %",
            f"{share(told_right['loud'])} (steady: {share(told_right['steady'])})",
        ),
        ("for comparison: lines among the first five of the plain method", "", share(plain)),
        ("of the instruments' lines of which that finds 70 %, ours finds", "", share(in_plain_material(files))),
        (
            "for comparison: places that it accuses per clean file",
            "",
            f"{np.mean([len(one.plain_hz) for one in clean]):.0f}",
        ),
    ]


def long_rows(files: Sequence[Scored]) -> list[tuple[str, str, str]]:
    """Return the same goals where phrases last longer."""
    kept = (
        "all lines",
        "wide humps",
        "wide loud-only harshness",
        "clean files with at most one",
        "for comparison: lines",
    )
    rows = [row for row in rows_of(files) if row[0].startswith(kept)]
    return [(f"phrases {LONGER} times as long: {name}", goal, measured) for name, goal, measured in rows]


def speed_row() -> tuple[str, str, str]:
    """Return how long four minutes of stereo take on one core."""
    x = 0.1 * np.random.default_rng(1).standard_normal((2, 240 * RATE)).astype(np.float32)
    source, times = ArraySource(x), []
    for _ in range(3):
        started = time.process_time()
        find(source, start=0, end=source.n_frames, sample_rate_hz=RATE, role="strings")
        times.append(time.process_time() - started)
    return ("4 minutes of stereo, processor time", "3 s", f"{min(times):.1f} s")


def main() -> None:
    """Print the tables, and write them down where asked."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--folder", type=Path, required=True)
    parser.add_argument("--phrases", type=int, default=480)
    parser.add_argument("--write", action="store_true")
    options = parser.parse_args()
    with ProcessPoolExecutor(2) as pool:
        work = [(index, options.folder, 1) for index in range(options.phrases)]
        files = [one for part in pool.map(scored, work) for one in part]
        longer = [(index, options.folder, LONGER) for index in range(min(N_LONG, options.phrases))]
        long_files = [one for part in pool.map(scored, longer) for one in part]
    rows = [*rows_of(files), *long_rows(long_files), *events_rows(), speed_row()]
    conclude(
        "finder",
        "## The finder",
        machine_line("bench/finder/score.py"),
        f"{len(files)} files of {options.phrases} phrases of 7 to 18 s, and {len(long_files)} of longer ones; "
        "none of the banks was fitted on.",
        table(rows),
        "By bank:",
        by(files, lambda item, _: item.bank),
        "By instrument:",
        by(files, lambda item, _: item.instrument),
        "By gain of the fault:",
        by(
            files,
            lambda _, fault: f"{case_of(fault)}, {int(fault.gain_db // 3 * 3)} to {int(fault.gain_db // 3 * 3 + 3)} dB",
        ),
        write=options.write,
    )


if __name__ == "__main__":
    main()
