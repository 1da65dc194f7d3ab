"""The whole application: what it holds in memory, how soon it is there again, and what two workers are worth.

    .venv/bin/python bench/whole.py [--tracks 12] [--port 8885]

Starts applications of its own in a throw-away folder. Memory is the proportional share (PSS) of all their processes.
How soon a session that was listened to is there again is the time in which all that is foreseen is answered, one after
the other.
"""

import argparse
import json
import os
import shutil
import signal
import subprocess
import tempfile
import time
import urllib.request
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import websockets.sync.client
from live import fill_session

from mivlo.core.analyses.registry import foreseen
from mivlo.core.model import RecordedSession

ROOT = Path(__file__).parents[1]
IDLE_S = 30.0  # until workers have given back what they held


@contextmanager
def running(data: Path, port: int, **settings: object) -> Iterator[tuple[str, int]]:
    """Run the application on a folder; yield its address and the process of its supervisor."""
    environment = os.environ | {f"MIVLO_{name.upper()}": str(value) for name, value in settings.items()}
    command = [str(ROOT / "mivlo"), "start", "--no-demo", "--port", str(port), "--data", str(data)]
    application = subprocess.Popen(command, stdout=subprocess.PIPE, text=True, env=environment)
    try:
        assert application.stdout is not None
        while "Mivlo is at" not in application.stdout.readline():
            assert application.poll() is None, "the application did not start"
        yield f"http://127.0.0.1:{port}", application.pid
    finally:
        application.send_signal(signal.SIGINT)
        application.wait(30)


def memory_mb(root_pid: int) -> float:
    """Return the proportional share of a process and all that it has started."""
    listed = subprocess.run(["ps", "-eo", "pid=,ppid="], capture_output=True, text=True, check=True)
    parents = {int(pid): int(ppid) for pid, ppid in (line.split() for line in listed.stdout.splitlines())}
    # The database's processes belong to its own user, but were started by us as well.
    own = {root_pid}
    while more := {pid for pid, ppid in parents.items() if ppid in own} - own:
        own |= more
    total = 0
    for pid in own:
        try:
            lines = Path(f"/proc/{pid}/smaps_rollup").read_text().splitlines()
        except OSError:
            continue
        total += next(int(line.split()[1]) for line in lines if line.startswith("Pss:"))
    return total / 1_024


def ask(base: str, session_id: str, name: str, asked: dict[str, Any], *, soon: bool = False) -> Any:
    """Ask once; `soon`: as a page does that nobody waits at, which one worker never does anything for."""
    path = f"{base}/api/sessions/{session_id}/analyses/{name}" + ("?soon=true" if soon else "")
    request = urllib.request.Request(path, json.dumps(asked).encode(), {"content-type": "application/json"})
    return json.load(urllib.request.urlopen(request, timeout=300))


def read(base: str, path: str) -> Any:
    """Return what a GET of the API answers."""
    return json.load(urllib.request.urlopen(f"{base}/api{path}", timeout=300))


def seconds_for_all(base: str, session_id: str) -> float:
    """Return how long findings and maps of all tracks take, asked for at once."""
    session = read(base, f"/sessions/{session_id}")
    wanted = [("suspects", {"strip_id": track["id"]}) for track in session["tracks"]] + [("ensemble", {})]
    left = {"suspects": len(session["tracks"]), "ear-map": len(session["tracks"])}
    with websockets.sync.client.connect(f"{base.replace('http', 'ws')}/api/sessions/{session_id}/news") as news:
        began = time.monotonic()
        for one in wanted:
            ask(base, session_id, *one, soon=True)
        while any(left.values()):
            told = json.loads(news.recv())
            if told["about"] == "product" and told["status"] == "done" and told["kind"] in left:
                left[told["kind"]] -= 1
        return time.monotonic() - began


def main() -> None:
    """Measure and print."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--port", type=int, default=8885)
    parser.add_argument("--tracks", type=int, default=12)
    arguments = parser.parse_args()
    scratch = Path(tempfile.mkdtemp(prefix="mivlo-bench-"))
    scratch.chmod(0o755)
    data, port, tracks = scratch / "data", arguments.port, arguments.tracks
    try:
        with running(data, port, foresees=True) as (base, pid):
            time.sleep(5.0)
            print(f"idle, fresh: {memory_mb(pid):.0f} MB", flush=True)
            session_id = fill_session(base, tracks=tracks, n_static=4, n_dynamic=0, n_planes=0)
            listened_to(base, session_id)
            time.sleep(IDLE_S)
            print(f"idle, after {tracks} tracks were listened to: {memory_mb(pid):.0f} MB", flush=True)
        began = time.monotonic()
        with running(data, port, foresees=True) as (base, _):
            print(f"second start: {time.monotonic() - began:.1f} s", flush=True)
            told = read(base, f"/sessions/{session_id}")
            session = RecordedSession.model_validate({name: told[name] for name in RecordedSession.model_fields})
            questions = [(one.name, asked) for one, asked, _ in foreseen(session)]
            began = time.monotonic()
            for name, asked in questions:
                assert ask(base, session_id, name, asked.model_dump(mode="json"))["status"] == "done", name
            print(f"{len(questions)} kept results asked for in turn: {time.monotonic() - began:.2f} s", flush=True)
        took = {}
        for workers in (1, 2):
            with running(scratch / f"by {workers}", port, foresees=False, workers=workers) as (base, _):
                session_id = fill_session(base, tracks=tracks, n_static=4, n_dynamic=0, n_planes=0)
                took[workers] = seconds_for_all(base, session_id)
        words = f"findings and maps of {tracks} tracks: {took[1]:.1f} s by one worker, {took[2]:.1f} s by two"
        print(f"{words}: {took[2] / took[1]:.2f}")
    finally:
        shutil.rmtree(scratch, ignore_errors=True)


def listened_to(base: str, session_id: str) -> None:
    """Wait until everything that the session needs was listened to in the background."""
    while True:
        told = read(base, f"/sessions/{session_id}/listening")
        if told["of"] and told["done"] == told["of"]:
            return
        time.sleep(1.0)


if __name__ == "__main__":
    main()
