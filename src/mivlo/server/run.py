"""Runs everything: database, migrations, demo session, API, monitor, jobs; stops it all on Ctrl-C."""

import argparse
import contextlib
import fcntl
import http.client
import os
import signal
import socket
import subprocess
import sys
import time
import urllib.request
from collections.abc import Callable, Iterator
from pathlib import Path
from types import FrameType
from typing import Any

from mivlo.server.db.cluster import Cluster, ClusterError, ElsewhereDatabase, start_cluster
from mivlo.server.with_parent import end_with_parent

__all__ = ["StepError", "default_data_folder", "main", "only_one", "own_port"]

PROCESSES = {"pages": "mivlo.server.app", "sound": "mivlo.server.monitor.app", "jobs": "mivlo.server.jobs.worker"}
READY_SECONDS = 180.0  # a busy machine takes its time
STOP_SECONDS = 5.0
NICENESS = 5  # of the jobs: below pages, and far below sound; while they are loaded, too
THREADS = ("OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS", "MKL_NUM_THREADS", "NUMBA_NUM_THREADS")
DATABASE, FRONT_END = "the database", "the front end"
PACKAGE = Path(__file__).parents[1]
OWN_PAGE = PACKAGE / "server/page"  # in an installed package
WATCH_S, FIRST_PAUSE_S, LONGEST_PAUSE_S, CALM_S = 0.3, 0.2, 30.0, 60.0


class StepError(RuntimeError):
    """A step of the start failed."""


def main(words: list[str] | None = None, *, verb: str = "start") -> int:
    """Start, wait for Ctrl-C (or a TERM), stop; `words` are the command line's behind the verb."""
    arguments = _arguments(words, verb)
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


def _arguments(words: list[str] | None, verb: str) -> argparse.Namespace:
    parser = argparse.ArgumentParser(prog=f"mivlo {verb}")
    parser.add_argument("--port", type=int, default=8765, help="of the application; sound uses the one above it")
    parser.add_argument("--data", type=Path, default=default_data_folder(), help="data folder")
    parser.add_argument("--no-demo", action="store_true", help="do not load the made-up session")
    parser.add_argument("--database", metavar="URL", help="of a PostgreSQL to be used instead of one of our own")
    parser.add_argument("--web", type=Path, default=OWN_PAGE, help=argparse.SUPPRESS)
    parser.add_argument("--demo-folder", type=Path, help=argparse.SUPPRESS)
    parser.add_argument("--dev", type=Path, metavar="WEB", help=argparse.SUPPRESS)  # the front end's source
    return parser.parse_args(words)


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
    if not arguments.dev and not (arguments.web / "index.html").is_file():
        raise StepError(f"there is no built page in {arguments.web}: build it, or install a wheel that has it")
    data: Path = arguments.data.expanduser().resolve()
    with contextlib.ExitStack() as held:
        for port in (arguments.port, arguments.port + 1, *((arguments.port + 2,) if arguments.dev else ())):
            held.enter_context(own_port(port))
        _prepare(data, own_database=arguments.database is None)
        held.enter_context(only_one(data))
        _run_in(arguments, data)


@contextlib.contextmanager
def only_one(data: Path) -> Iterator[None]:
    """Hold the data folder: two databases on one folder would end each other."""
    try:
        lock = (data / "lock").open("w")
    except OSError as error:
        message = f"data folder {data} cannot be written ({error.strerror}); --data chooses another"
        raise StepError(message) from error
    with lock:
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            message = f"data folder {data} is in use by another Mivlo; stop that one, or choose a folder with --data"
            raise StepError(message) from None
        yield


def _run_in(arguments: argparse.Namespace, data: Path) -> None:
    cluster: Cluster | ElsewhereDatabase
    if arguments.database is None:
        _report("starting the database")
        cluster = start_cluster(data / "database")
    else:
        cluster = ElsewhereDatabase(arguments.database)
    children: dict[str, subprocess.Popen[bytes]] = {}
    try:
        os.environ.update(_environment(arguments, data, cluster.url))
        _report("starting sound, pages and jobs")
        children["sound"] = _spawn("sound")
        # Whoever has loaded what it takes brings the data into order, before the first page is served.
        children["pages"] = _spawn("pages", first=True)
        children["jobs"] = _spawn("jobs")
        _wait_ready(_api_port(arguments), arguments.port + 1, children)
        _let_work(children["jobs"])
        if arguments.dev:
            _report("starting the front end with hot replacement")
            children[FRONT_END] = _spawn_front_end(arguments)
        print(f"\nMivlo is at http://127.0.0.1:{arguments.port}/   (Ctrl-C stops it)\n", flush=True)
        _keep_alive(children, cluster, arguments)
    finally:
        print("mivlo: stopping", flush=True)
        _stop(children)
        cluster.stop()


def _report(step: str) -> None:
    print(f"mivlo: {step}", flush=True)


@contextlib.contextmanager
def own_port(port: int) -> Iterator[None]:
    """Keep every other Mivlo off a port, also while nobody listens there yet; raises StepError where it is in use."""
    # A name in the kernel, gone with the process however it ends.
    with socket.socket() as probe, socket.socket(socket.AF_UNIX) as claim:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            claim.bind(f"\0mivlo {port}")
            probe.bind(("127.0.0.1", port))
        except OSError as error:
            raise StepError(
                f"port {port} cannot be used ({error.strerror}); is Mivlo already running? --port chooses another"
            ) from error
        probe.close()
        yield


def _prepare(data: Path, *, own_database: bool) -> None:
    try:
        data.mkdir(parents=True, exist_ok=True)
        (data / "audio").mkdir(exist_ok=True)
    except OSError as error:
        raise StepError(f"data folder {data} cannot be made ({error.strerror}); --data chooses another") from error
    if os.geteuid() == 0 and own_database:
        check = subprocess.run(
            ["runuser", "-u", "postgres", "--", "test", "-x", str(data)], check=False, capture_output=True
        )
        if check.returncode:
            raise StepError(
                f"data folder {data} cannot be entered by the user 'postgres', as whom the database must run; "
                "--data chooses another"
            )


def _environment(arguments: argparse.Namespace, data: Path, database_url: str) -> dict[str, str]:
    pages = {"MIVLO_WEB": str(arguments.web)}
    if arguments.dev:
        pages = {"MIVLO_PAGE_PORT": str(arguments.port)}
    wants_demo = arguments.demo_folder is not None and not arguments.no_demo
    demo = {"MIVLO_DEMO_FOLDER": str(arguments.demo_folder)} if wants_demo else {}
    return {
        "MIVLO_DATA": str(data),
        "MIVLO_DATABASE_URL": database_url,
        "MIVLO_PORT": str(_api_port(arguments)),
        "MIVLO_MONITOR_PORT": str(arguments.port + 1),
        **pages,
        **demo,
    }


def _api_port(arguments: argparse.Namespace) -> int:
    """Return where the API is: in development, the front end's own server stands at the address itself."""
    return int(arguments.port) + 2 if arguments.dev else int(arguments.port)


def _step_back() -> None:
    """Let pages and sound go first; where the kernel schedules by sessions, "nice" counts only within one."""
    end_with_parent()
    os.nice(NICENESS)
    with contextlib.suppress(OSError):
        Path("/proc/self/autogroup").write_text(f"{NICENESS}")


def _popen(
    command: list[str], *, first: Callable[[], None] = end_with_parent, **kind: Any
) -> subprocess.Popen[bytes]:  # fmt: skip
    return subprocess.Popen(command, preexec_fn=first, start_new_session=True, **kind)  # noqa: PLW1509


def _spawn(name: str, *, first: bool = False) -> subprocess.Popen[bytes]:
    # With -c rather than -m: the processes that these start in turn would load the whole module again.
    entrance = "first_main" if first else "main"
    command = [sys.executable, "-c", f"from {PROCESSES[name]} import {entrance}; {entrance}()"]
    if name != "jobs":
        return _popen(command)
    # Read by the libraries when they are loaded, so it is the supervisor's own setting. Several workers are faster than
    # one with several threads.
    threads = os.environ.get("MIVLO_WORKER_THREADS", "1")
    environment = os.environ | dict.fromkeys(THREADS, threads)
    return _popen(command, first=_step_back, stdin=subprocess.PIPE, env=environment)


def _let_work(jobs: subprocess.Popen[bytes]) -> None:
    """Tell the jobs, which have loaded all they need by now, or will have, that the database is in order."""
    assert jobs.stdin is not None
    with contextlib.suppress(OSError):  # it has ended meanwhile, and is started again
        jobs.stdin.write(b"\n")
        jobs.stdin.flush()


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


def _spawn_front_end(arguments: argparse.Namespace) -> subprocess.Popen[bytes]:
    command = ["node_modules/.bin/vite", "--host", "127.0.0.1", "--port", str(arguments.port), "--strictPort"]
    environment = os.environ | {"MIVLO_API": f"http://127.0.0.1:{_api_port(arguments)}"}
    return _popen(command, cwd=arguments.dev, env=environment)


class Sources:
    """The package's own files, watched while somebody works on them."""

    def __init__(self) -> None:
        self._seen = self._newest()

    def have_changed(self) -> bool:
        """Tell whether any is newer than at the last time."""
        newest = self._newest()
        changed, self._seen = newest != self._seen, newest
        return changed

    @staticmethod
    def _newest() -> tuple[int, int]:
        times = [path.stat().st_mtime_ns for path in PACKAGE.rglob("*.py")]
        return len(times), max(times)


class Pauses:
    """How long to wait before what has ended is started again: longer each time, until it has lived for a while."""

    def __init__(self) -> None:
        self._pause_s = FIRST_PAUSE_S
        self._due_s = 0.0
        self._started_s = time.monotonic()

    def is_due(self) -> bool:
        """Tell whether it is time to start again; noted once it is asked for the first time."""
        now_s = time.monotonic()
        if not self._due_s:
            if now_s - self._started_s > CALM_S:
                self._pause_s = FIRST_PAUSE_S
            self._due_s = now_s + self._pause_s
        return now_s >= self._due_s

    def began(self) -> None:
        """Note that it was started, or tried in vain."""
        self._pause_s = min(2 * self._pause_s, LONGEST_PAUSE_S)
        self._due_s, self._started_s = 0.0, time.monotonic()


def _keep_alive(
    children: dict[str, subprocess.Popen[bytes]], cluster: Cluster | ElsewhereDatabase, arguments: argparse.Namespace
) -> None:
    """Start again what dies, the database first; nothing that was acknowledged is lost by that."""
    pauses = {name: Pauses() for name in (DATABASE, *children)}
    reported: set[str] = set()
    sources = Sources() if arguments.dev else None
    while True:
        time.sleep(WATCH_S)
        if sources is not None and sources.have_changed():
            _report("the source has changed; starting its processes again")
            _stop({name: child for name, child in children.items() if name != FRONT_END})
            children.update({name: _spawn(name) for name in PROCESSES})
            _let_work(children["jobs"])
        ended = [name for name, child in children.items() if child.poll() is not None]
        if not cluster.is_running():
            ended.append(DATABASE)
        for name in set(ended) - reported:
            status = "" if name == DATABASE else f" (status {children[name].returncode})"
            _report(f"the process for {name} ended{status}; starting it again")
        reported = set(ended)
        for name in ended:
            if pauses[name].is_due():
                pauses[name].began()
                reported.discard(name)
                if name != DATABASE:
                    children[name] = _spawn_front_end(arguments) if name == FRONT_END else _spawn(name)
                    if name == "jobs":
                        _let_work(children[name])
                    continue
                try:
                    cluster.start()
                except ClusterError as error:
                    _report(str(error))


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
