"""A large session in the running application: 24 tracks of 4 minutes, and how soon what is asked of it is there.

    .venv/bin/python bench/large.py [--tracks 24] [--minutes 4] [--port 8895] [--folder F] [--wait] [--write]

Tracks of the demo go round and round, each at a speed, a level and a beginning of its own. They have arrived before,
as files that are dropped on the start page; the clock starts when the last is a track. Then: the first rows of the
round, its full list, the plan; the pressure test with the stand-ins that Mivlo drafts; four treatments opened beside
one. `--folder` keeps the files for another run; `--wait` leaves the application running at the end; `--write` saves the
table in docs/figures.md.
"""

import argparse
import contextlib
import json
import shutil
import statistics
import tempfile
import threading
import time
import uuid
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np
import soundfile
import websockets.exceptions
import websockets.sync.client
from live import ROOT, post, upload
from report import conclude, machine_line, table
from scipy.signal import resample_poly
from whole import ask, read, running

RATE, LONGEST_S, OPENED = 48_000, 900.0, 5
LOOKED_S = 3.0  # each look takes the pages' process a second
Row = tuple[str, str, str]  # what, its goal, what was measured
SPEEDS = ((1, 1), (17, 18), (9, 8))


def tracks_in(folder: Path, n_tracks: int, minutes: float) -> list[Path]:
    """Write the tracks, where they are not there yet; return their files."""
    demo = sorted((ROOT / "demo" / "tracks").iterdir())
    n_frames, found = round(60 * minutes * RATE), []
    for n in range(n_tracks):
        sound, random = demo[n % len(demo)], np.random.default_rng(n)
        found.append(folder / f"{sound.stem} {n // len(demo) + 1}.wav")
        if found[-1].exists():
            continue
        once, rate = soundfile.read(sound, always_2d=True, dtype="float32")
        up, down = SPEEDS[n // len(demo) % len(SPEEDS)]
        once = resample_poly(once, up * RATE, down * rate, axis=0) * random.uniform(0.3, 0.9)
        once = np.roll(once, int(random.integers(len(once))) if n >= len(demo) else 0, axis=0)
        tiled = np.tile(once, (n_frames // len(once) + 1, 1))[:n_frames]
        soundfile.write(found[-1], tiled + 1e-5 * random.standard_normal(tiled.shape), RATE, "PCM_24")
    return found


def send(base: str, path: str, body: object) -> Any:
    """Return what a POST of JSON answers."""
    return post(f"{base}/api{path}", json.dumps(body).encode(), "application/json")


def edit(base: str, session_id: str, *intents: dict[str, Any]) -> None:
    """Make one edit of the session."""
    send(base, f"/sessions/{session_id}/edits", {"id": uuid.uuid4().hex, "label": "Bench", "intents": list(intents)})


def seconds_until(began: float, is_so: Callable[[], object]) -> float:
    """Return when something is so, to some seconds."""
    while not is_so():
        assert time.monotonic() - began < LONGEST_S, "it did not come"
        time.sleep(LOOKED_S)
    return time.monotonic() - began


def timed(do: Callable[[], object]) -> float:
    """Return the median of some times that it takes."""
    took = []
    for _ in range(OPENED):
        began = time.monotonic()
        do()
        took.append(time.monotonic() - began)
    return statistics.median(took)


@contextmanager
def hearing_news(base: str, session_id: str) -> Iterator[Counter[str]]:
    """Yield how many of each kind of analysis are done; print them at the end, and when the last of each was."""
    began, counts, last = time.monotonic(), Counter[str](), dict[str, float]()

    def listen() -> None:
        with contextlib.suppress(websockets.exceptions.ConnectionClosed):
            while True:
                told = json.loads(news.recv())
                if told["about"] == "product" and told["status"] == "done":
                    counts[told["kind"]] += 1
                    last[told["kind"]] = time.monotonic() - began

    address = f"{base.replace('http', 'ws')}/api/sessions/{session_id}/news"
    with websockets.sync.client.connect(address) as news:
        thread = threading.Thread(target=listen)
        thread.start()
        yield counts
    thread.join()
    done = ", ".join(f"{counts[kind]} {kind} {at:.0f} s" for kind, at in sorted(last.items(), key=lambda one: one[1]))
    print(f"  last of each: {done}", flush=True)


def taken_in(base: str, files: list[Path]) -> str:
    """Return a session of these files, without a plan for them."""
    staged = [upload(f"{base}/api/staged", file.name, file.read_bytes())[0] for file in files]
    session_id = str(send(base, "/sessions", {"name": "Large", "sample_rate_hz": RATE})["id"])
    for one in staged:
        send(base, f"/sessions/{session_id}/tracks/staged", {"file_ids": [one["id"]]})
    return session_id


def the_round(base: str, session_id: str) -> Iterator[Row]:
    """Yield when rows are there, when each suspect was heard in the mix, and when nothing is missing."""
    began, path = time.monotonic(), f"/sessions/{session_id}/round"
    read(base, path)

    def view() -> Any:
        return read(base, f"{path}?asks=false")

    def is_heard() -> bool:
        suspects = [row for row in view()["rows"] if row["kind"] == "suspect" and row["suspects"]]
        return bool(suspects) and all(row["heard"] or "mix" in row["strip_ids"] for row in suspects)

    yield "first rows of the Round", "15 s", f"{seconds_until(began, lambda: view()['rows']):.1f} s"
    yield "each suspect heard in the mix", "75 s", f"{seconds_until(began, is_heard):.0f} s"
    yield "all but the plan", "", f"{seconds_until(began, lambda: view()['waiting'] <= 1):.0f} s"
    yield "the full list, with the plan", "120 s", f"{seconds_until(began, lambda: not view()['waiting']):.0f} s"
    yield "the list read again", "", f"{timed(view):.2f} s ({len(view()['rows'])} rows)"


def the_pressure(base: str, session_id: str, done: Counter[str]) -> Row:
    """Return how long the pressure test takes over all tracks, each with two suspects answered."""
    session = read(base, f"/sessions/{session_id}")
    for track in session["tracks"]:
        found = ask(base, session_id, "suspects", {"strip_id": track["id"]})["result"]["suspects"][:2]
        entries = [{"id": uuid.uuid4().hex, "move": one["cut"], "evidence": one["evidence"]} for one in found]
        moves = [{"do": "add-move", "strip_id": track["id"], "entry": entry} for entry in entries]
        edit(base, session_id, *moves)
    edit(base, session_id, {"do": "draft-stand-ins", "group_id": uuid.uuid4().hex})
    began = time.monotonic()
    # Asked for once, as a page does, which is told by the news when it is there.
    asked = [ask(base, session_id, "pressure", {"strip_id": track["id"]}) for track in session["tracks"]]
    n = done["pressure"] + sum(one["status"] != "done" for one in asked)
    took_s = seconds_until(began, lambda: done["pressure"] >= n)
    return "every track under pressure, two answers each", "60 s", f"{took_s:.0f} s"


def the_treatments(base: str, session_id: str) -> Row:
    """Return how long the session takes to be opened with one treatment, and with four."""

    def opened() -> None:
        read(base, f"/sessions/{session_id}")
        read(base, f"/sessions/{session_id}/round?asks=false")

    one = timed(opened)
    for letter in "BCD":
        edit(base, session_id, {"do": "add-treatment", "letter": letter, "of": "A"})
    return "opened with four treatments", f"as with one: {one:.2f} s", f"{timed(opened):.2f} s"


def main() -> None:
    """Measure, print, and write down where asked."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--tracks", type=int, default=24)
    parser.add_argument("--minutes", type=float, default=4.0)
    parser.add_argument("--port", type=int, default=8895)
    parser.add_argument("--folder", type=Path)
    parser.add_argument("--wait", action="store_true")
    parser.add_argument("--write", action="store_true")
    given = parser.parse_args()
    scratch = Path(tempfile.mkdtemp(prefix="mivlo-bench-"))
    scratch.chmod(0o755)
    folder = given.folder or scratch / "files"
    folder.mkdir(parents=True, exist_ok=True)
    try:
        files = tracks_in(folder, given.tracks, given.minutes)
        with running(scratch / "data", given.port) as (base, _):
            session_id = taken_in(base, files)
            with hearing_news(base, session_id):
                rows = list(the_round(base, session_id))
            with hearing_news(base, session_id) as done:
                rows.append(the_pressure(base, session_id, done))
            rows.append(the_treatments(base, session_id))
            conclude(
                "a large session",
                "## A large session",
                machine_line("bench/large.py"),
                f"{given.tracks} tracks of {given.minutes:g} minutes in the running application, nothing else beside; "
                "seconds since the last was a track.",
                table(rows),
                write=given.write,
            )
            if given.wait:
                input(f"{base}/s/{session_id} goes on until a line is typed here: ")
    finally:
        shutil.rmtree(scratch, ignore_errors=True)


if __name__ == "__main__":
    main()
