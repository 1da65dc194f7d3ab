"""How much of a core the engine needs, and how near the shapes come, as ratios and figures taken in one run.

    OMP_NUM_THREADS=1 .venv/bin/python bench/engine.py [--minutes 10] [--write]

`--write` saves the tables in docs/figures.md. The long session is as long as --minutes says (on disk, in a throw-away
folder); its memory is the process's own peak.
"""

import argparse
import itertools
import resource
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
from report import conclude, machine_line
from scipy.signal import oaconvolve, sosfilt

from mivlo.core.engine.mix import Mix
from mivlo.core.engine.player import Player
from mivlo.core.engine.render import render_mix
from mivlo.core.engine.source import ArraySource, open_source
from mivlo.core.filters import analog
from mivlo.core.filters.biquad import frequency_response
from mivlo.core.filters.matched import plain_bell
from mivlo.core.model import LedgerEntry, Track
from mivlo.core.moves import Move
from mivlo.core.moves.air import Air
from mivlo.core.moves.bell import Bell
from mivlo.core.moves.compressor import Compressor
from mivlo.core.moves.drive import Drive
from mivlo.core.moves.dynamic_bell import DynamicBell
from mivlo.core.moves.flat_bell import FlatBell
from mivlo.core.moves.high_shelf import HighShelf
from mivlo.core.moves.low_shelf import LowShelf
from mivlo.core.moves.plane import Plane
from mivlo.core.moves.room import Room
from mivlo.core.moves.warmth import Warmth
from mivlo.core.processors.chain import ChainSpec, KeyedSection
from mivlo.core.processors.fir import FirSpec
from mivlo.core.processors.stage import Context, Stage
from mivlo.core.units import Array

RATE = 48_000
BLOCK = 16_384  # of the renders; live play asks for 1024 at a time at least
REPEATS = 25
HZ = np.geomspace(20.0, 20_000.0, 800)
BELLS = [Bell(hz=float(hz), gain_db=-4.0, q=4.0) for hz in np.geomspace(50.0, 12_000.0, 24)]


def best_seconds(*works: Callable[[], object]) -> list[float]:
    """Return the shortest run of each of some works, taken in turn, so that a busy moment meets all alike."""
    times: list[list[float]] = [[] for _ in works]
    for _ in range(REPEATS):
        for work, taken in zip(works, times, strict=True):
            started = time.perf_counter()
            work()
            taken.append(time.perf_counter() - started)
    return [min(taken) for taken in times]


def noise(seconds: float) -> Array:
    """Return stereo noise of whole blocks."""
    n = round(seconds * RATE) // BLOCK * BLOCK
    return 0.1 * np.random.default_rng(2).standard_normal((2, n))


def through(stages: list[Stage], x: Array) -> None:
    """Run blocks through stages."""
    for start in range(0, x.shape[1], BLOCK):
        block = x[:, start : start + BLOCK].copy()
        for stage in stages:
            block = stage.process(block, Context(start))


def moves_over_scipy() -> list[tuple[str, str, float]]:
    """Return the ratios over scipy's cascade of 24 sections, which runs on the same blocks."""
    x = noise(4.0)
    sos = np.array([[s.b0, s.b1, s.b2, 1.0, s.a1, s.a2] for bell in BELLS for s in bell.sections(RATE)[:1]])
    keyed = tuple(KeyedSection(f"{i}", s) for i, s in enumerate(s for bell in BELLS for s in bell.sections(RATE)))
    chain: list[Stage] = [ChainSpec("k", keyed).make(2, RATE)]
    dynamic: list[Stage] = [
        DynamicBell(hz=bell.hz, q=4.0, threshold_db=-50.0)
        .stage(f"{i}", on=True, keepers=(), sample_rate_hz=RATE)
        .make(2, RATE)
        for i, bell in enumerate(BELLS)
    ]
    scipy_s, chain_s, dynamic_s = best_seconds(
        lambda: [sosfilt(sos, x[:, at : at + BLOCK], axis=1) for at in range(0, x.shape[1], BLOCK)],
        lambda: through(chain, x), lambda: through(dynamic, x),
    )  # fmt: skip
    return [
        (
            f"24 static bells ({len(keyed)} sections), stereo, over sosfilt with 24 sections",
            "at most 0.6",
            chain_s / scipy_s,
        ),
        ("24 dynamic bells at work, stereo, over the same static sosfilt", "at most 1.5", dynamic_s / scipy_s),
    ]


def plane_speed() -> tuple[str, str, float]:
    """Return how many times faster than real time the plane is."""
    x = noise(10.0)
    stages: list[Stage] = [Plane().stage("p", on=True, keepers=(), sample_rate_hz=RATE).make(2, RATE)]
    return "plane, stereo 48 kHz, times real time", "100 or more", 10.0 / best_seconds(lambda: through(stages, x))[0]


def later_speed() -> list[tuple[str, str, float]]:
    """Return how many times faster than real time the moves are that are no equalizers."""
    x, found = noise(6.0), []
    kinds: list[tuple[Move, str]] = [
        (Compressor(threshold_db=-50.0), "300"), (Drive(drive_db=12.0), "80"), (Warmth(), "100"), (Air(), "100"),
        (Room(), "100"),
    ]  # fmt: skip
    for move, goal in kinds:
        stages: list[Stage] = [move.stage("m", on=True, keepers=(), sample_rate_hz=RATE).make(2, RATE)]  # type: ignore[union-attr]
        seconds = best_seconds(lambda stages=stages: through(stages, x))[0]  # type: ignore[misc]
        name = f"{move.label.lower()}, stereo 48 kHz, times real time"
        found.append((name, f"{goal} or more", x.shape[1] / RATE / seconds))
    return found


def linear_over_scipy() -> list[tuple[str, str, float]]:
    """Return the ratios of linear phase over scipy's overlap-add of the same length on the same blocks."""
    x, found = noise(6.0), []
    for name, bells in (("431 Hz Q 8", [Bell(hz=431, gain_db=-6, q=8)]), ("60 Hz Q 4", [Bell(hz=60, gain_db=-6, q=4)])):
        spec = FirSpec("f", tuple((section, "both") for bell in bells for section in bell.sections(RATE)))
        stages: list[Stage] = [spec.make(2, RATE)]
        kernel = np.random.default_rng(1).standard_normal((1, spec.n_taps))
        ours, theirs = best_seconds(
            lambda stages=stages: through(stages, x),  # type: ignore[misc]
            lambda kernel=kernel: [
                oaconvolve(x[:, at : at + BLOCK], kernel, axes=1) for at in range(0, x.shape[1], BLOCK)
            ],  # type: ignore[misc]
        )
        label = f"linear phase, {name}, {spec.n_taps} taps, over oaconvolve on the same blocks"
        found.append((label, "at most 1", ours / theirs))
    return found


def ledger(*moves: Move) -> tuple[LedgerEntry, ...]:
    """Return a ledger of moves."""
    return tuple(LedgerEntry(id=f"{i}", move=move) for i, move in enumerate(moves))


def long_session(minutes: float, folder: Path) -> list[tuple[str, str, float]]:
    """Return time over duration and peak memory of a large session that is rendered on two cores."""
    n = round(minutes * 60 * RATE)
    path = folder / "session.npy"
    stored = np.lib.format.open_memmap(path, mode="w+", dtype=np.float32, shape=(2, n))
    for at in range(0, n, 1 << 20):
        count = min(1 << 20, n - at)
        stored[:, at : at + count] = 0.05 * np.random.default_rng(at).standard_normal((2, count))
    stored.flush()
    del stored
    moves: list[Move] = [*BELLS[:12], *(DynamicBell(hz=500.0 * 2**i, threshold_db=-50.0) for i in range(4)), Plane()]
    mix = Mix(tracks=tuple(Track(id=f"{i}", audio_id="a", gain_db=-20.0, ledger=ledger(*moves)) for i in range(24)))
    source = open_source(path)
    started = time.perf_counter()
    for block in render_mix(mix, lambda _: source, start=0, end=n, sample_rate_hz=RATE):
        del block
    taken_s = time.perf_counter() - started
    peak_mib = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024.0
    name = f"24 tracks x (12 static + 4 dynamic + plane), {minutes:g} minutes"
    return [
        (f"{name}: render time over duration, two cores", "at most 0.35", taken_s / (n / RATE)),
        (f"{name}: peak resident MiB", "under 1024", peak_mib),
    ]


def live_load() -> list[tuple[str, str, float]]:
    """Return the part of one core that live play takes, in the monitor's chunks, without work ahead."""
    source = ArraySource(noise(8.0))
    moves: list[Move] = [*BELLS[:8], *(DynamicBell(hz=1_000.0 * 2**i, threshold_db=-40.0) for i in range(2))]
    mix = Mix(tracks=tuple(Track(id=f"{i}", audio_id="a", ledger=ledger(*moves)) for i in range(16)))
    seconds = 3.0

    def play() -> None:
        player = Player(mix, lambda _: source, start_frame=RATE, sample_rate_hz=RATE)
        started = time.perf_counter()
        for _ in range(round(seconds * RATE / 256)):
            player.render(256)
        loads.append((time.perf_counter() - started) / seconds)

    loads: list[float] = []
    for _ in range(3):
        play()
    return [("live: 16 tracks x (8 static + 2 dynamic), part of one core", "under 1", min(loads))]


def shape_errors() -> list[str]:
    """Return the rows of largest errors against the analogue shapes, with what the closed form alone reaches."""
    rows = []
    grid = list(
        itertools.product((20, 60, 431, 2_500, 8_000, 12_000, 18_000), (0.5, 0.7071, 2, 8, 30), (-24, -6, 6, 24))
    )
    for rate in (44_100, 48_000, 96_000):
        worst = {"Bell": 0.0, "FlatBell": 0.0, "LowShelf": 0.0, "HighShelf": 0.0, "one section": 0.0, "bilinear": 0.0}
        two = 0
        for hz, q, gain in grid:
            for kind in (Bell, FlatBell, LowShelf, HighShelf):
                move = kind(hz=hz, q=q, gain_db=gain)
                wanted = _db(analog.response(move.analog_sections(), HZ))
                sections = move.sections(rate)
                error = np.abs(_db(frequency_response(sections, HZ, sample_rate_hz=rate)) - wanted)[wanted > -40.0]
                worst[kind.__name__] = max(worst[kind.__name__], float(error.max()))
                if kind is Bell:
                    two += len(sections) > 1
                    plain = frequency_response([plain_bell(hz, gain, q, sample_rate_hz=rate)], HZ, sample_rate_hz=rate)
                    worst["one section"] = max(worst["one section"], float(np.max(np.abs(_db(plain) - wanted))))
                    warped_hz = hz * np.tan(np.pi * HZ / rate) / np.tan(np.pi * hz / rate)
                    counted = (wanted > -40.0) & (0.499 * rate > HZ)
                    squeezed = _db(analog.response(move.analog_sections(), warped_hz)) - wanted
                    worst["bilinear"] = max(worst["bilinear"], float(np.max(np.abs(squeezed)[counted])))
        rows.append(
            f"| {rate / 1000:g} kHz | {worst['Bell']:.3f} | {worst['FlatBell']:.3f} | "
            f"{worst['LowShelf']:.3f} | {worst['HighShelf']:.3f} | {worst['one section']:.2f} | "
            f"{worst['bilinear']:.1f} | {100 * two / len(grid):.0f} % |"
        )
    return rows


def _db(h: np.ndarray) -> Array:
    return np.asarray(20.0 * np.log10(np.maximum(np.abs(h), 1e-9)))


def main() -> None:
    """Print the tables, and write them down where asked."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--minutes", type=float, default=2.0)
    parser.add_argument("--write", action="store_true")
    options = parser.parse_args()
    measured = [*moves_over_scipy(), plane_speed(), *later_speed(), *linear_over_scipy(), *live_load()]
    with tempfile.TemporaryDirectory() as folder:
        measured += long_session(options.minutes, Path(folder))
    rows = [f"| {name} | {goal} | {value:.3g} |" for name, goal, value in measured]
    machine = machine_line("bench/engine.py")
    text = TEMPLATE.format(machine=machine, repeats=REPEATS, speed="\n".join(rows), shapes="\n".join(shape_errors()))
    conclude("engine", text, write=options.write)


TEMPLATE = """## The engine

{machine} Every ratio within one run, the best of {repeats} turns, on one core unless said.

| what | goal | measured |
|---|---|---|
{speed}

### How near the shapes come

Largest error in dB against the analogue prototype, 20 Hz-20 kHz where it is above -40 dB, over 20 Hz-18 kHz,
Q 0.5-30 and gains of 6 and 24 dB either way. *One section*: the closed form that dynamic bells use. *Bilinear*: the
usual design, for comparison. *Two sections*: how many bells need a second one, which costs that much more time.

| rate | bell | flat bell | low shelf | high shelf | bell, one section | bell, bilinear | two sections |
|---|---|---|---|---|---|---|---|
{shapes}
"""


if __name__ == "__main__":
    main()
