"""The live monitor in headless Chromium: from a change in the page to the first changed sample leaving the worklet.

    .venv/bin/python bench/live.py [--minutes 5] [--port 8865] [--tracks 16] [--static 8] [--dynamic 2] [--planes 0]
        [--behind] [--beside CHECKOUT]

With `--beside` (another revision in a worktree, set up), both are measured in turn, in one run; how each is edited and
told what to play is an adapter of its own here.

With `--behind`, the same session is played once more with a compressor on every track and sends into one room.

Starts an application of its own in a throw-away folder, fills a session with 16 stereo tracks of 8 static and 2
dynamic moves (or with a heavier one: 24 tracks of 12 static and 8 dynamic moves and a plane are too much for one
core), and measures latency, underruns with the spectrum drawing, and how the queue does beside a CPU-bound neighbour.
What the host of a virtual machine takes away (the "steal" of /proc/stat) is printed beside, since no program can do
anything about it.
"""

import argparse
import io
import json
import os
import shutil
import signal
import statistics
import subprocess
import sys
import tempfile
import time
import urllib.error
import urllib.request
import uuid
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np
import soundfile
from playwright.sync_api import Page, sync_playwright

ROOT = Path(__file__).parents[1]
HOST_TOOK_S = 0.015  # in half a second
ANALYSED_S, MOST_ANALYSED_S = 45.0, 400.0  # until pictures and level match are done, and what is foreseen
RATE, SECONDS, CHANGES = 48_000, 40, 120
FLAGS = [
    "--no-sandbox", "--disable-gpu", "--disable-quic", "--disable-background-networking",
    "--autoplay-policy=no-user-gesture-required",
]  # fmt: skip
# How a page of each protocol changes the gain of one bell under its pointer, and edits a whole ledger.
CHANGE_BY_LISTENING = """async ([n, tracks]) => {
    const { play, session } = window.mivlo
    const strip = session.saved.value.tracks[n % tracks]
    const entry = strip.ledger[n % 8]
    const preview = { strip_id: strip.id, entry_id: entry.id, move: { ...entry.move, gain_db: -1 - (n % 9) } }
    const heard = { ...play.heard.value, listening: { ...play.listening.value, preview } }
    const started = performance.now()
    const seq = play.monitor().listen(heard)
    return (await play.monitor().whenHeard(seq)) - started
}"""
CHANGE_BY_MIX = """async ([n, tracks]) => {
    const { play } = window.mivlo
    const mix = JSON.parse(JSON.stringify(play.mix.value))
    mix.tracks[n % tracks].ledger[n % 8].move.gain_db = -1 - (n % 9)
    const started = performance.now()
    const seq = play.monitor().setMix(mix, null)
    return (await play.monitor().whenHeard(seq)) - started
}"""
STATE = """() => {
    const { play } = window.mivlo
    return { underruns: play.monitor().underruns, queue: play.meter.value?.queue_ms ?? 0 }
}"""


def post(url: str, data: bytes, kind: str) -> Any:
    """Return the JSON that a POST answers."""
    request = urllib.request.Request(url, data, {"content-type": kind})
    with urllib.request.urlopen(request, timeout=60) as answer:
        return json.load(answer)


def upload(url: str, name: str, data: bytes) -> Any:
    """Send one file as a form."""
    boundary = uuid.uuid4().hex
    head = f'--{boundary}\r\nContent-Disposition: form-data; name="file"; filename="{name}"\r\n\r\n'.encode()
    return post(url, head + data + f"\r\n--{boundary}--\r\n".encode(), f"multipart/form-data; boundary={boundary}")


def fill_session(base: str, *, tracks: int, n_static: int, n_dynamic: int, n_planes: int) -> str:
    """Make the session to be played; return its id."""
    session = post(
        f"{base}/api/sessions", json.dumps({"name": "Bench", "sample_rate_hz": RATE}).encode(), "application/json"
    )
    state = session
    for track in range(tracks):
        out = io.BytesIO()
        noise = 0.05 * np.random.default_rng(track).standard_normal((SECONDS * RATE, 2))
        soundfile.write(out, noise, RATE, format="WAV", subtype="PCM_16")
        state = upload(f"{base}/api/sessions/{session['id']}/tracks", f"track {track}.wav", out.getvalue())
    moves = [{"kind": "bell", "hz": 60.0 * 2**n, "gain_db": -3.0, "q": 3.0} for n in np.linspace(0.0, 7.0, n_static)]
    dynamic = {"kind": "dynamic-bell", "threshold_db": -50.0, "lookahead_ms": 5.0}
    moves += [{**dynamic, "hz": 1_000.0 * 2.0**n} for n in np.linspace(0.0, 1.0, n_dynamic)]
    moves += [{"kind": "plane"}] * n_planes
    ledger = [{"id": f"m{n}", "move": move} for n, move in enumerate(moves)]
    ids = [track["id"] for track in state["tracks"]]
    edits = [edit_of(state, ids, ledger)] if "undo" not in state else list(edits_of(ids, ledger))
    for edit in edits:
        post(f"{base}/api/sessions/{session['id']}/edits", json.dumps(edit).encode(), "application/json")
    return str(session["id"])


def put_behind(base: str, session_id: str) -> None:
    """Give every track a compressor, and send it into one room."""
    path, room = f"{base}/api/sessions/{session_id}", uuid.uuid4().hex
    with urllib.request.urlopen(path) as answer:
        ids = [track["id"] for track in json.load(answer)["tracks"]]
    compressor = {"kind": "compressor", "threshold_db": -35.0, "ratio": 4.0, "stand_in": False}
    edits: list[list[dict[str, Any]]] = [
        [
            {"do": "add-group", "group_id": room, "name": "Room"},
            {"do": "add-move", "strip_id": room, "entry": {"id": "r", "move": {"kind": "room", "stand_in": False}}},
        ],
        *(
            [
                {"do": "add-move", "strip_id": one, "entry": {"id": f"c{one}", "move": compressor}},
                {"do": "set-send", "strip_id": one, "to_id": room, "level_db": -12.0, "seen_db": None},
            ]
            for one in ids
        ),
    ]
    for intents in edits:
        edit = {"id": uuid.uuid4().hex, "label": "Behind", "intents": intents}
        post(f"{path}/edits", json.dumps(edit).encode(), "application/json")


def edits_of(ids: list[str], ledger: list[dict[str, Any]]) -> Iterator[dict[str, Any]]:
    """Yield edits made of intents: one a track, then the loop."""
    for one in ids:
        intents = [{"do": "add-move", "strip_id": one, "entry": entry} for entry in ledger]
        yield {"id": uuid.uuid4().hex, "label": "Fill", "intents": intents}
    loop = {"do": "set-loop", "start_frame": 0, "end_frame": SECONDS * RATE}
    yield {"id": uuid.uuid4().hex, "label": "Loop", "intents": [loop]}


def edit_of(state: dict[str, Any], ids: list[str], ledger: list[dict[str, Any]]) -> dict[str, Any]:
    """Return the one edit of the revisions before intents: made on a base revision."""
    steps: list[dict[str, Any]] = [{"do": "edit-track", "track_id": one, "fields": {"ledger": ledger}} for one in ids]
    steps.append({"do": "edit-session", "loop_start_frame": 0, "loop_end_frame": SECONDS * RATE})
    return {"base_revision": state["revision"], "label": "Fill", "steps": steps}


def stolen_s() -> float:
    """Return the processor time that the host has taken away since the machine started."""
    return int(Path("/proc/stat").read_text().split("\n")[0].split()[8]) / os.sysconf("SC_CLK_TCK")


def edit_all_the_time(page: Page, n_tracks: int, words: str) -> None:
    """Make many changes to so many tracks in turn; print the time from change to first changed sample, and
    underruns."""
    stolen, underruns = stolen_s(), page.evaluate(STATE)["underruns"]
    change = CHANGE_BY_MIX if page.evaluate("() => 'mix' in window.mivlo.play") else CHANGE_BY_LISTENING
    found = []
    for n in range(CHANGES):
        found.append(float(page.evaluate(change, [n, n_tracks])))
        page.wait_for_timeout(60 + 7 * (n % 11))
    found.sort()
    state = page.evaluate(STATE)
    print(
        f"change to first changed sample, {words}: median {statistics.median(found):.0f} ms, 95th percentile "
        f"{found[int(0.95 * len(found))]:.0f} ms ({len(found)} changes, {state['underruns'] - underruns} underruns, "
        f"queue {state['queue']:.0f} ms; the host took {stolen_s() - stolen:.2f} s)"
    )


def watch(page: Page, seconds: float, words: str) -> None:
    """Play on for a while; print underruns, the longest queue and what the host took."""
    stolen_before, underruns, longest = stolen_s(), page.evaluate(STATE)["underruns"], 0.0
    ours = hosts = 0
    stolen, taken_before = stolen_before, False
    deadline = time.monotonic() + seconds
    while time.monotonic() < deadline:
        page.wait_for_timeout(500)
        state, stolen_now = page.evaluate(STATE), stolen_s()
        taken = stolen_now - stolen > HOST_TOOK_S
        # An underrun shows a little after its cause: the half second before counts, too.
        if taken or taken_before:
            hosts += state["underruns"] - underruns
        else:
            ours += state["underruns"] - underruns
        underruns, stolen, taken_before = state["underruns"], stolen_now, taken
        longest = max(longest, state["queue"])
    print(
        f"{words}, {seconds:.0f} s: {ours} underruns, and {hosts} more while the host took time away "
        f"({stolen - stolen_before:.2f} s); queue up to {longest:.0f} ms, {state['queue']:.0f} ms at the end"
    )


def until_listened_to(base: str, session_id: str) -> None:
    """Wait until nothing is computed in the background any more; a revision that does not tell is given some time."""
    began_s = time.monotonic()
    time.sleep(ANALYSED_S)
    while time.monotonic() - began_s < MOST_ANALYSED_S:
        try:
            with urllib.request.urlopen(f"{base}/api/sessions/{session_id}/listening") as answer:
                told = json.load(answer)
        except urllib.error.HTTPError:
            return
        if "done" not in told or told["done"] == told["of"]:
            return
        time.sleep(1.0)


def measure(page: Page, base: str, session_id: str, minutes: float, n_tracks: int) -> None:
    """Run all measurements on one page."""
    page.goto(f"{base}/session/{session_id}/bench")
    page.get_by_text("in the mix", exact=True).first.click()
    until_listened_to(base, session_id)
    page.locator("[data-test=play]").click()
    page.wait_for_timeout(5_000)
    edit_all_the_time(page, 1, "one track")
    edit_all_the_time(page, n_tracks, "all tracks in turn")
    watch(page, 60.0 * minutes, "playing, spectrum drawing")
    with subprocess.Popen([sys.executable, "-c", "while True: pass"]) as neighbour:
        try:
            watch(page, 30.0, "beside a CPU-bound neighbour")
        finally:
            neighbour.kill()
    watch(page, 45.0, "after the neighbour left")


def main() -> None:
    """Start, measure, stop."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--minutes", type=float, default=5.0)
    parser.add_argument("--port", type=int, default=8865)
    parser.add_argument("--tracks", type=int, default=16)
    parser.add_argument("--static", type=int, default=8)
    parser.add_argument("--dynamic", type=int, default=2)
    parser.add_argument("--planes", type=int, default=0)
    parser.add_argument("--behind", action="store_true", help="and once more behind compressors and a room")
    parser.add_argument("--beside", type=Path, help="another checkout, measured before this one")
    arguments = parser.parse_args()
    for root in [*([arguments.beside.resolve()] if arguments.beside else []), ROOT]:
        if arguments.beside:
            print(f"-- {'this revision' if root == ROOT else 'the one beside'}", flush=True)
        run(root, arguments)


@contextmanager
def started(root: Path, port: int) -> Iterator[str]:
    """Run the application of a checkout in a throw-away folder; yield its address."""
    data = Path(tempfile.mkdtemp(prefix="mivlo-bench-"))
    data.chmod(0o755)
    command = [str(root / "mivlo"), "start", "--no-demo", "--port", str(port), "--data", str(data / "data")]
    application = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
    try:
        assert application.stdout is not None
        while "Mivlo is at" not in application.stdout.readline():
            assert application.poll() is None, "the application did not start"
        yield f"http://127.0.0.1:{port}"
    finally:
        application.send_signal(signal.SIGINT)
        application.wait(30)
        shutil.rmtree(data, ignore_errors=True)


def run(root: Path, arguments: argparse.Namespace) -> None:
    """Measure one checkout."""
    with started(root, arguments.port) as base, sync_playwright() as playwright:
        session_id = fill_session(
            base,
            tracks=arguments.tracks,
            n_static=arguments.static,
            n_dynamic=arguments.dynamic,
            n_planes=arguments.planes,
        )
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        measure(page, base, session_id, arguments.minutes, arguments.tracks)
        if arguments.behind:
            put_behind(base, session_id)
            print("-- behind a compressor on every track, and one room")
            measure(page, base, session_id, arguments.minutes, arguments.tracks)
        browser.close()


if __name__ == "__main__":
    main()
