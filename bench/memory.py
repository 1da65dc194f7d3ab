"""The peak memory of each analysis on a long session, each in a process of its own.

    .venv/bin/python bench/memory.py [--minutes 20] [--tracks 8]

A process's peak counts what it has loaded, too: "nothing" is a process that only loads the libraries.
"""

import argparse
import multiprocessing
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import numpy as np

from mivlo.core.audiofile import write_store
from mivlo.core.cellar import CellarTrack, clear_the_cellar, low_end_of
from mivlo.core.engine.mix import Mix
from mivlo.core.engine.render import render_mix, render_track
from mivlo.core.engine.source import Source, blocks_of, open_source
from mivlo.core.ensemble.clashes import find_clashes
from mivlo.core.ensemble.erb_map import erb_map
from mivlo.core.ensemble.listening import MixedTrack, full_scale_db_spl, hear
from mivlo.core.finder.suspects import find
from mivlo.core.level_match import loudness_of
from mivlo.core.model import LedgerEntry, Track
from mivlo.core.moves.bell import Bell
from mivlo.core.spectra.average import band_levels_of, level_percentiles
from mivlo.core.spectra.pictures import Tile, spectrogram_tile, waveform_peaks

RATE = 48_000
BLOCK = 1 << 18


def noise(seed: int, n_frames: int) -> Iterator[np.ndarray]:
    """Yield blocks of stereo noise that comes and goes."""
    random = np.random.default_rng(seed)
    for at in range(0, n_frames, BLOCK):
        n = min(BLOCK, n_frames - at)
        yield 0.05 * random.standard_normal((2, n)) * (0.3 + abs(np.sin(np.arange(at, at + n) / RATE / (1 + seed))))


def analyses(folder: Path, n_tracks: int, n_frames: int) -> dict[str, Callable[[], Any]]:
    """Return what is measured, by name."""

    def stored(audio_id: str) -> Source:
        return open_source(folder / f"{audio_id}.npy")

    ledger = (LedgerEntry(id="e", move=Bell(hz=431, gain_db=-6, q=4)),)
    mix = Mix(tracks=tuple(Track(id=str(n), audio_id=str(n), ledger=ledger) for n in range(n_tracks)))
    whole = {"start": 0, "end": n_frames, "sample_rate_hz": RATE}

    def heard_together() -> None:
        maps = [erb_map(stored(str(n)), **whole) for n in range(n_tracks)]
        tracks = [MixedTrack(one, gain_db=0.0, pan=0.0) for one in maps]
        find_clashes(hear(tracks, full_scale_db=full_scale_db_spl(tracks)))

    def spectrum() -> None:
        band_levels_of(blocks_of(stored("0"), 0, n_frames), n_frames, sample_rate_hz=RATE)
        level_percentiles(stored("0"), (5.0, 95.0, 100.0), **whole)

    def low(n: int) -> CellarTrack:
        end = low_end_of(stored(str(n)), start_frame=0, role="other", end_frame=n_frames, sample_rate_hz=RATE)
        return CellarTrack(str(n), end, "other", 0.0)

    return {
        "nothing": lambda: None,
        "waveform": lambda: waveform_peaks(stored("0"), start=0, end=n_frames, n_columns=1_200),
        "spectrum": spectrum,
        "picture, the whole song": lambda: spectrogram_tile(stored("0"), Tile(10, 0, 0, 0), sample_rate_hz=RATE),
        "level match of the mix": lambda: loudness_of(render_mix(mix, stored, **whole), sample_rate_hz=RATE),
        "spectrum of the mix": lambda: band_levels_of(render_mix(mix, stored, **whole), n_frames, sample_rate_hz=RATE),
        "treated sound": lambda: sum(block.shape[1] for block in render_track(mix, "0", stored, **whole)),
        "cellar": lambda: clear_the_cellar([low(n) for n in range(n_tracks)], sample_rate_hz=RATE),
        "suspects": lambda: find(stored("0"), start=0, end=n_frames, sample_rate_hz=RATE, role=None),
        "hearing and clashes": heard_together,
    }


def measured(folder: Path, n_tracks: int, n_frames: int, name: str, told: Any) -> None:
    """Run one analysis; send its peak in MB and its seconds."""
    began = time.monotonic()
    try:
        analyses(folder, n_tracks, n_frames)[name]()
        problem = ""
    except Exception as error:
        problem = repr(error)
    told.send((peak_mb(), time.monotonic() - began, problem))


def peak_mb() -> float:
    """Return the most that this process has held; getrusage would count what its parent held before it was begun."""
    lines = Path("/proc/self/status").read_text().splitlines()
    return next(int(line.split()[1]) for line in lines if line.startswith("VmHWM")) / 1_024


def main() -> None:
    """Write the session, measure, print."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--minutes", type=float, default=20.0)
    parser.add_argument("--tracks", type=int, default=8)
    arguments = parser.parse_args()
    n_frames = round(60 * arguments.minutes * RATE)
    context = multiprocessing.get_context("spawn")
    with tempfile.TemporaryDirectory() as folder:
        for n in range(arguments.tracks):
            write_store(Path(folder) / f"{n}.npy", noise(n, n_frames), n_channels=2, n_frames=n_frames)
        print(f"{arguments.minutes:g} minutes x {arguments.tracks} tracks, stereo: peak MB, seconds", flush=True)
        for name in analyses(Path(folder), arguments.tracks, n_frames):
            hears, tells = context.Pipe(duplex=False)
            target = (Path(folder), arguments.tracks, n_frames, name, tells)
            process = context.Process(target=measured, args=target)
            process.start()
            tells.close()
            try:
                peak_mb, seconds, problem = hears.recv()
                print(f"  {name:26} {peak_mb:6.0f} {seconds:6.1f} {problem}", flush=True)
            except EOFError:
                print(f"  {name:26} was ended from outside", flush=True)
            process.join()


if __name__ == "__main__":
    main()
