"""Runs everything: database, migrations, demo session, API, monitor, jobs; stops it all on Ctrl-C."""

import argparse
import contextlib
import ctypes
import fcntl
import http.client
import os
import shutil
import signal
import socket
import subprocess
import sys
import time
import urllib.request
from collections.abc import Iterator
from pathlib import Path
from types import FrameType

from mivlo.server.db.cluster import Cluster, ClusterError, start_cluster

__all__ = ["main"]

PROCESSES = {"pages": "mivlo.server.app", "sound": "mivlo.server.monitor.app", "jobs": "mivlo.server.jobs.worker"}
DEMO_DONE = "demo-loaded"
READY_SECONDS = 60.0
STOP_SECONDS = 5.0
PR_SET_PDEATHSIG = 1


class StepError(RuntimeError):
    """A step of the start failed."""


def main() -> int:
    """Start, wait for Ctrl-C (or a TERM), stop."""
    arguments = _arguments()
    signal.signal(signal.SIGTERM, _interrupt)
    signal.signal(signal.SIGINT, _interrupt)
    try:
        _run(arguments)
    except (StepError, ClusterError) as error:
        print(f"mivlo: {error}", file=sys.stderr, flush=True)
        return 1
    except KeyboardInterrupt:
        pass
    return 0


def _arguments() -> argparse.Namespace:
    parser = argparse.ArgumentParser(prog="mivlo start")
    parser.add_argument("--port", type=int, default=8765, help="of the application; sound uses the one above it")
    parser.add_argument("--data", type=Path, default=default_data_folder(), help="data folder")
    parser.add_argument("--no-demo", action="store_true", help="do not load the made-up session")
    parser.add_argument("--web", type=Path, required=True, help=argparse.SUPPRESS)
    parser.add_argument("--demo-folder", type=Path, required=True, help=argparse.SUPPRESS)
    return parser.parse_args()


def default_data_folder() -> Path:
    """Return where data is kept unless said otherwise: never under a home that the database's user cannot enter."""
    if os.geteuid() == 0:
        return Path("/var/lib/mivlo")
    return Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local/share") / "mivlo"


def _interrupt(_: int, __: FrameType | None) -> None:
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    signal.signal(signal.SIGTERM, signal.SIG_IGN)
    raise KeyboardInterrupt


def _run(arguments: argparse.Namespace) -> None:
    for port in (arguments.port, arguments.port + 1):
        _refuse_busy(port)
    data: Path = arguments.data.expanduser().resolve()
    _prepare(data)
    with _only_one(data):
        _run_in(arguments, data)


@contextlib.contextmanager
def _only_one(data: Path) -> Iterator[None]:
    """Hold the data folder: two databases on one folder would end each other."""
    with (data / "lock").open("w") as lock:
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            message = f"data folder {data} is in use by another Mivlo; stop that one, or choose a folder with --data"
            raise StepError(message) from None
        yield


def _run_in(arguments: argparse.Namespace, data: Path) -> None:
    shutil.rmtree(data / "incoming", ignore_errors=True)  # uploads that a killed process left half-way
    _say("starting the database")
    cluster = start_cluster(data / "database")
    children: dict[str, subprocess.Popen[bytes]] = {}
    try:
        os.environ.update(_environment(arguments, data, cluster))
        _say("starting sound and pages")
        for name in ("sound", "pages"):
            children[name] = _spawn(name)
        _prepare_database(arguments)
        _say("starting jobs")
        children["jobs"] = _spawn("jobs")
        _wait_ready(arguments.port, arguments.port + 1, children)
        print(f"\nMivlo is at http://127.0.0.1:{arguments.port}/   (Ctrl-C stops it)\n", flush=True)
        _keep_alive(children)
    finally:
        print("mivlo: stopping", flush=True)
        _stop(children)
        cluster.stop()


def _say(step: str) -> None:
    print(f"mivlo: {step}", flush=True)


def _refuse_busy(port: int) -> None:
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind(("127.0.0.1", port))
        except OSError as error:
            raise StepError(
                f"port {port} cannot be used ({error.strerror}); is Mivlo already running? --port chooses another"
            ) from error


def _prepare(data: Path) -> None:
    try:
        data.mkdir(parents=True, exist_ok=True)
        (data / "audio").mkdir(exist_ok=True)
    except OSError as error:
        raise StepError(f"data folder {data} cannot be made ({error.strerror}); --data chooses another") from error
    if os.geteuid() == 0:
        check = subprocess.run(["runuser", "-u", "postgres", "--", "test", "-x", str(data)], check=False, capture_output=True)
        if check.returncode:
            raise StepError(
                f"data folder {data} cannot be entered by the user 'postgres', as whom the database must run; "
                "--data chooses another"
            )


def _environment(arguments: argparse.Namespace, data: Path, cluster: Cluster) -> dict[str, str]:
    return {
        "MIVLO_DATA": str(data),
        "MIVLO_DATABASE_URL": cluster.url,
        "MIVLO_PORT": str(arguments.port),
        "MIVLO_MONITOR_PORT": str(arguments.port + 1),
        "MIVLO_WEB": str(arguments.web),
    }


def _prepare_database(arguments: argparse.Namespace) -> None:
    # Imported here: the settings that these modules read exist only now.
    from mivlo.server.db.engine import engine, migrate

    _say("bringing the database up to date")
    migrate()
    if not arguments.no_demo and not (Path(os.environ["MIVLO_DATA"]) / DEMO_DONE).exists():
        _say("loading the demo session (once)")
        _load_demo(arguments.demo_folder)
    engine().dispose()


def _load_demo(folder: Path) -> None:
    # Imported here: the audio libraries would cost every later start a second.
    from mivlo.server.db.engine import open_db
    from mivlo.server.services.demo import load_demo
    from mivlo.server.services.pool import close_pool

    try:
        with open_db() as db:
            load_demo(db, folder)
    finally:
        close_pool()
    (Path(os.environ["MIVLO_DATA"]) / DEMO_DONE).touch()


def _die_with_parent() -> None:
    ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, signal.SIGTERM)


def _spawn(name: str) -> subprocess.Popen[bytes]:
    # With -c rather than -m: the processes that these start in turn would load the whole module again.
    command = [sys.executable, "-c", f"from {PROCESSES[name]} import main; main()"]
    # Sound needs one helper, for the live spectrum; pages measure several things at a time.
    environment = os.environ | ({"MIVLO_ANALYSIS_PROCESSES": "1"} if name == "sound" else {})
    return subprocess.Popen(command, env=environment, preexec_fn=_die_with_parent, start_new_session=True)  # noqa: PLW1509


def _wait_ready(port: int, monitor_port: int, children: dict[str, subprocess.Popen[bytes]]) -> None:
    deadline = time.monotonic() + READY_SECONDS
    waiting = {f"http://127.0.0.1:{port}/api/about", f"http://127.0.0.1:{monitor_port}/openapi.json"}
    while waiting:
        for name, child in children.items():
            if child.poll() is not None:
                raise StepError(f"the process for {name} ended with status {child.returncode}")
        if time.monotonic() > deadline:
            raise StepError(f"no answer from {', '.join(sorted(waiting))} within {READY_SECONDS:.0f} s")
        for url in list(waiting):
            # While nobody listens yet, a connection to loopback may even reach itself, and then hears its own question.
            with contextlib.suppress(OSError, http.client.HTTPException), urllib.request.urlopen(url, timeout=2):
                waiting.discard(url)
        time.sleep(0.05)


def _keep_alive(children: dict[str, subprocess.Popen[bytes]]) -> None:
    """Start again what dies; nothing that was acknowledged is lost by that."""
    while True:
        time.sleep(0.3)
        for name, child in children.items():
            if child.poll() is not None:
                _say(f"the process for {name} ended (status {child.returncode}); starting it again")
                children[name] = _spawn(name)


def _stop(children: dict[str, subprocess.Popen[bytes]]) -> None:
    for child in children.values():
        child.terminate()
    for child in children.values():
        try:
            child.wait(STOP_SECONDS)
        except subprocess.TimeoutExpired:
            child.kill()
            child.wait()


if __name__ == "__main__":
    sys.exit(main())
