"""A long session: what each step of the way takes, and the most that a process holds for it.

    .venv/bin/python bench/long.py [--minutes 90] [--tracks 8] [--folder F] [--only NAME ...]

Tracks of the demo go round and round, each time at another level with other noise under it, as FLAC files at 44.1 kHz
in a session at 48 kHz. Then they are taken in, listened to in every way that is foreseen, compared, drawn, played and
rendered, each step in a process of its own, as workers do it. A process's peak counts what it has loaded, too:
"nothing" is a process that only loads the libraries. `--folder` keeps what was written and goes on from there.
"""

import argparse
import json
import multiprocessing
import shutil
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import numpy as np
import soundfile

from mivlo.core.analyses.base import Need, Work
from mivlo.core.analyses.needs import needs_of
from mivlo.core.analyses.registry import ANALYSES, foreseen
from mivlo.core.analyses.rendered import SAMPLES
from mivlo.core.audiofile import ImportLimits, inspect_audio, resample_to_store, sha256_of
from mivlo.core.engine.mix import mix_of_session
from mivlo.core.engine.player import Player
from mivlo.core.engine.source import Source, open_source
from mivlo.core.hand_over import HandOverRequest, SoundStore, render_all
from mivlo.core.model import LedgerEntry, RecordedSession
from mivlo.core.moves.bell import Bell
from mivlo.core.moves.dynamic_bell import DynamicBell

DEMO = Path(__file__).parents[1] / "demo"
FILE_RATE, RATE = 44_100, 48_000
LIMITS = ImportLimits(max_seconds=3 * 3_600.0, max_bytes=8 << 30)
# Beside what is foreseen: what somebody asks for who compares, and looks closely.
ASKED: tuple[tuple[str, dict[str, Any]], ...] = (
    ("picture", {"strip_id": "t0", "place": {"time_zoom": 3, "column": 5}}),
    ("spectrum", {"strip_id": "mix"}),
    ("survey", {"strip_id": "t0"}),
    ("mix-comparison", {}),
    ("sides", {}),
    ("masking", {"strip_ids": ["t0", "t1"]}),
    ("mono-sum", {}),
    ("likeness", {"strip_id": "t0", "towards": "t1"}),
)


def written(path: Path, sound: Path, seed: int, n_frames: int) -> None:
    """Write one long file."""
    once, rate = soundfile.read(sound, always_2d=True, dtype="float32")
    assert rate == FILE_RATE or len(once)
    random = np.random.default_rng(seed)
    with soundfile.SoundFile(path, "w", FILE_RATE, once.shape[1], "PCM_24", format="FLAC") as file:
        left = n_frames
        while left:
            turn = once[: min(len(once), left)] * random.uniform(0.4, 1.0)
            file.write(turn + 1e-4 * random.standard_normal(turn.shape))
            left -= len(turn)


def session_of(tracks: list[tuple[Path, str]], minutes: float) -> RecordedSession:
    """Return the session: a cut on each track, and one that moves."""
    moves = (Bell(hz=431, gain_db=-6, q=4), DynamicBell(hz=2_900, q=3))
    ledger = [LedgerEntry(id=f"e{n}", move=move).model_dump() for n, move in enumerate(moves)]
    made, audio = [], {}
    for n, (path, role) in enumerate(tracks):
        info = inspect_audio(path, limits=LIMITS, name=path.name)
        made.append({"id": f"t{n}", "name": f"{role} {n}", "role": role, "audio_id": f"{n:032}", "ledger": ledger})
        audio[f"{n:032}"] = {
            "id": f"{n:032}", "original_name": path.name, "format": info.format, "subtype": info.subtype,
            "original_rate_hz": info.sample_rate_hz, "original_frames": info.n_frames, "n_channels": info.n_channels,
            "n_frames": round(60 * minutes * RATE),
        }  # fmt: skip
    return RecordedSession.model_validate({"id": "long", "sample_rate_hz": RATE, "tracks": made, "audio": audio})


class Folder:
    """Where files, samples and results lie."""

    def __init__(self, path: Path) -> None:
        self.path = path

    def original(self, audio_id: str) -> Path:
        """Return a file as it was imported."""
        return self.path / f"{int(audio_id)}.flac"

    def open(self, audio_id: str) -> Source:
        """Open a sound at the session's rate."""
        return open_source(self.path / audio_id / SAMPLES)

    def result(self, need: Need) -> Any:
        """Read a result that is there."""
        return need.analysis.adapter().validate_json((self.path / f"{need.key}.json").read_bytes())

    def has(self, need: Need) -> bool:
        """Tell whether a result is there."""
        return (self.path / f"{need.key}.json").exists()

    def compute(self, need: Need) -> None:
        """Compute one result, all that it needs being there."""
        folder = self.path / need.key
        shutil.rmtree(folder, ignore_errors=True)
        folder.mkdir()
        work = Work(self.open, self.result, lambda one: self.path / one.key, folder, lambda _: None)
        made = need.analysis.adapter().dump_json(need.analysis.analyse(work, need.params))
        (self.path / f"{need.key}.json").write_bytes(made)

    def take_in(self, audio_id: str) -> None:
        """Take one file in."""
        path = self.original(audio_id)
        info = inspect_audio(path, limits=LIMITS, name=path.name)
        (self.path / audio_id).mkdir(exist_ok=True)
        resample_to_store(path, self.path / audio_id / SAMPLES, info=info, rate_hz=RATE, name=path.name)
        sha256_of(path)

    def render(self, session: RecordedSession, what: str) -> None:
        """Hand tracks or the mix over."""
        ids = [track.id for track in session.tracks]
        request = HandOverRequest.model_validate({"what": what, "track_ids": ids if what == "tracks" else []})
        store = SoundStore(original=self.original, open=self.open, limits=LIMITS)
        render_all(session, request, self.path / "handed over", store, lambda _: None, self.result_now)
        shutil.rmtree(self.path / "handed over")

    def result_now(self, need: Need) -> Any:
        """Return a result, computed here where it is not there."""
        if not self.has(need):
            for one in needs_of(need.analysis, need.params):
                self.result_now(one)
            self.compute(need)
        return self.result(need)

    def play(self, session: RecordedSession) -> None:
        """Play a minute out of the middle."""
        player = Player(mix_of_session(session), self.open, start_frame=session.end_frame() // 2, sample_rate_hz=RATE)
        for _ in range(60 * RATE // 4_096):
            player.render(4_096)


def peak_mb() -> float:
    """Return the most that this process has held; getrusage would count what its parent held before it was begun."""
    lines = Path("/proc/self/status").read_text().splitlines()
    return next(int(line.split()[1]) for line in lines if line.startswith("VmHWM")) / 1_024


def measured(step: Callable[..., None], arguments: tuple[Any, ...], told: Any) -> None:
    """Run one step; send its peak in MB and its seconds."""
    began = time.monotonic()
    try:
        step(*arguments)
        problem = ""
    except Exception as error:
        problem = repr(error)
    told.send((peak_mb(), time.monotonic() - began, problem))


def apart(step: Callable[..., None], *arguments: Any) -> tuple[float, float, str]:
    """Run a step in a process of its own; return peak in MB, seconds, and what went wrong."""
    context = multiprocessing.get_context("spawn")
    hears, tells = context.Pipe(duplex=False)
    process = context.Process(target=measured, args=(step, arguments, tells))
    process.start()
    tells.close()
    try:
        peak, seconds, problem = hears.recv()
        return peak, seconds, problem
    except EOFError:
        return 0.0, 0.0, "was ended from outside"
    finally:
        process.join()


def computed(folder: Folder, need: Need, told: Callable[[str, tuple[float, float, str]], None]) -> None:
    """Compute a result with all that it needs, each in a process of its own."""
    if folder.has(need):
        return
    for one in needs_of(need.analysis, need.params):
        computed(folder, one, told)
    told(need.analysis.name, apart(folder.compute, need))


def questions(session: RecordedSession, folder: Folder) -> Iterator[Need]:
    """Yield all that is asked of the session, what hangs on other results last."""
    for analysis, _, params in foreseen(session):
        yield Need(analysis, params)
    for name, asked in ASKED:
        analysis = ANALYSES[name]
        yield Need(analysis, analysis.question(session, analysis.asked.model_validate(asked), lambda _: None))
    together, yields = ANALYSES["ensemble"], ANALYSES["yield"]
    need = Need(together, together.question(session, together.asked(), lambda _: None))
    if folder.has(need):
        shown = together.show(session, together.asked(), need.params, folder.result(need))
        clash = next(one for one in shown.clashes if one.by is not None and not one.same_sound)
        yield Need(yields, yields.question(session, yields.asked(clash_id=clash.id), folder.result))


def nothing() -> None:
    """Only load the libraries."""


def main() -> None:
    """Write the files, measure, print."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--minutes", type=float, default=90.0)
    parser.add_argument("--tracks", type=int, default=8)
    parser.add_argument("--folder", type=Path)
    parser.add_argument("--only", nargs="*", default=None, help="kinds of steps, computed anew")
    arguments = parser.parse_args()
    scratch = arguments.folder or Path(tempfile.mkdtemp(prefix="mivlo-bench-"))
    scratch.mkdir(exist_ok=True)
    folder = Folder(scratch)
    told = json.loads((DEMO / "session.json").read_text())["tracks"]
    chosen = [told[n % len(told)] for n in range(arguments.tracks)]
    n_frames = round(60 * arguments.minutes * FILE_RATE)
    print(
        f"{arguments.minutes:g} minutes x {arguments.tracks} tracks: step, times, peak MB, seconds in all", flush=True
    )
    took: dict[str, list[tuple[float, float]]] = {}

    def tell(name: str, figures: tuple[float, float, str]) -> None:
        mb, seconds, problem = figures
        took.setdefault(name, []).append((mb, seconds))
        print(f"    {name}: {mb:.0f} MB, {seconds:.1f} s {problem}", flush=True)

    try:
        for n, one in enumerate(chosen):
            if not folder.original(f"{n:032}").exists():
                written(folder.original(f"{n:032}"), DEMO / "tracks" / one["file"], n, n_frames)
        files = [(folder.original(f"{n:032}"), one["role"]) for n, one in enumerate(chosen)]
        session = session_of(files, arguments.minutes)
        tell("nothing", apart(nothing))
        for audio_id in session.audio:
            if not (scratch / audio_id / SAMPLES).exists() or "take in" in (arguments.only or ()):
                tell("take in", apart(folder.take_in, audio_id))
        for need in questions(session, folder):
            if need.analysis.name in (arguments.only or ()):
                (scratch / f"{need.key}.json").unlink(missing_ok=True)
            if arguments.only is None or need.analysis.name in arguments.only:
                computed(folder, need, tell)
        for what in ("tracks", "mix"):
            if arguments.only is None or f"hand over {what}" in arguments.only:
                tell(f"hand over {what}", apart(folder.render, session, what))
        if arguments.only is None or "play" in arguments.only:
            tell("play a minute", apart(folder.play, session))
    finally:
        if not arguments.folder:
            shutil.rmtree(scratch, ignore_errors=True)
    for name, figures in took.items():
        print(f"{name:22} {len(figures):4} {max(mb for mb, _ in figures):6.0f} {sum(s for _, s in figures):8.1f}")


if __name__ == "__main__":
    main()
