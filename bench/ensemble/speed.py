"""Measures how long clashes take: 24 tracks of four minutes, from files to clashes, on two processes.

    .venv/bin/python bench/ensemble/speed.py [--tracks 24] [--minutes 4] [--write]

Invented data: noise in bands that comes and goes. `--write` saves the table in docs/figures.md.
"""

import argparse
import resource
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1]))

import numpy as np
import soundfile
from report import conclude, machine_line, table
from scipy.signal import butter, sosfilt

from mivlo.core.ensemble.files import clashes_of_files

RATE = 48_000


def track(index: int, seconds: float) -> np.ndarray:
    """Return (frames, 2) of a track of noise in a band, coming and going."""
    random = np.random.default_rng(index)
    low_hz = 60.0 * 2.0 ** (index % 7)
    band = butter(2, [low_hz, 3.0 * low_hz], "bandpass", fs=RATE, output="sos")
    x = sosfilt(band, random.standard_normal((2, round(seconds * RATE))))
    beat = 0.3 + 0.05 * (index % 9)
    x *= (np.arange(x.shape[1]) / RATE) % (3 * beat) < 2 * beat
    return np.asarray(0.05 * x.T / np.std(x))


def main() -> None:
    """Print the table, and write it down where asked."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--tracks", type=int, default=24)
    parser.add_argument("--minutes", type=float, default=4.0)
    parser.add_argument("--write", action="store_true")
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        files = [Path(folder) / f"{index:02d}.wav" for index in range(options.tracks)]
        for index, file in enumerate(files):
            soundfile.write(file, track(index, 60.0 * options.minutes), RATE, subtype="PCM_16")
        clashes_of_files(files[:2])
        started = time.perf_counter()
        found = clashes_of_files(files)
        seconds = time.perf_counter() - started
    memory = max(resource.getrusage(who).ru_maxrss for who in (resource.RUSAGE_SELF, resource.RUSAGE_CHILDREN)) / 1024
    what = f"{options.tracks} stereo tracks of {options.minutes:g} minutes: clashes from files"
    rows = [(what, "20 s", f"{seconds:.1f} s ({len(found)} clashes)"), ("largest process", "", f"{memory:.0f} MiB")]
    conclude(
        "clash speed", "## Speed of clashes", machine_line("bench/ensemble/speed.py"), table(rows), write=options.write
    )


if __name__ == "__main__":
    main()
