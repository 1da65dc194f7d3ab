"""How long an edit takes while many analyses wait: from its request to its answer.

    .venv/bin/python bench/edits.py [--port 8875] [--tracks 16]

Starts an application of its own, asks for the suspects of all tracks at once, and edits until they are told. The same
edits without any analysis are measured first.
"""

import argparse
import json
import statistics
import threading
import time
import urllib.request
import uuid
from collections.abc import Callable
from pathlib import Path

from live import SECONDS, fill_session, post, started

MOST_EDITS, PAUSE_S = 200, 0.1


def edited_ms(base: str, session_id: str, strip_id: str) -> float:
    """Make one edit; return how long the answer took."""
    pin = {"id": uuid.uuid4().hex, "hz": 431.0, "width_octaves": 0.25}
    intent = {"do": "add-pin", "strip_id": strip_id, "pin": pin}
    edit = {"id": uuid.uuid4().hex, "label": "Pin", "intents": [intent]}
    began = time.perf_counter()
    post(f"{base}/api/sessions/{session_id}/edits", json.dumps(edit).encode(), "application/json")
    return 1e3 * (time.perf_counter() - began)


def edit_while(goes_on: Callable[[], bool], base: str, session_id: str, strip_ids: list[str], words: str) -> None:
    """Edit as long as something goes on; print what the edits took."""
    found: list[float] = []
    while goes_on() and len(found) < MOST_EDITS:
        found.append(edited_ms(base, session_id, strip_ids[len(found) % len(strip_ids)]))
        time.sleep(PAUSE_S)
    found.sort()
    print(
        f"{words}: median {statistics.median(found):.0f} ms, 95th percentile {found[int(0.95 * len(found))]:.0f} ms, "
        f"longest {found[-1]:.0f} ms ({len(found)} edits)",
        flush=True,
    )


def main() -> None:
    """Start, measure, stop."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--port", type=int, default=8875)
    parser.add_argument("--tracks", type=int, default=16)
    arguments = parser.parse_args()
    with started(Path(__file__).parents[1], arguments.port) as base:
        session_id = fill_session(base, tracks=arguments.tracks, n_static=4, n_dynamic=0, n_planes=0)
        session = json.load(urllib.request.urlopen(f"{base}/api/sessions/{session_id}"))
        strip_ids = [track["id"] for track in session["tracks"]]
        until_s = time.monotonic() + 5.0
        edit_while(lambda: time.monotonic() < until_s, base, session_id, strip_ids, "nothing else")

        def ask(strip_id: str) -> None:
            body = json.dumps({"strip_id": strip_id, "end_s": SECONDS}).encode()
            path = f"{base}/api/sessions/{session_id}/analyses/suspects"
            request = urllib.request.Request(path, body, {"content-type": "application/json"})
            while json.load(urllib.request.urlopen(request, timeout=300))["status"] != "done":
                time.sleep(0.5)

        asking = [threading.Thread(target=ask, args=(strip_id,)) for strip_id in strip_ids]
        for one in asking:
            one.start()
        words = f"{len(asking)} analyses waiting"
        edit_while(lambda: any(one.is_alive() for one in asking), base, session_id, strip_ids, words)


if __name__ == "__main__":
    main()
