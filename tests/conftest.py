"""A whole Mivlo of its own for the tests: real processes, a throw-away PostgreSQL cluster on loopback, never the
user's data."""

import asyncio
import os
import random
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import httpx
import pytest
import uvicorn

from mivlo.server.access import LocalOnly
from mivlo.server.app import create_app
from mivlo.server.db.cluster import start_cluster
from mivlo.server.db.engine import engine
from mivlo.server.db.upgrade import migrate
from mivlo.server.jobs.worker import ALL_QUEUES, work

ROOT = Path(__file__).parents[1]
START_SECONDS = 120.0


def free_pair_of_ports() -> int:
    """Return a port that is free together with the one above it, below those that the system gives to connections."""
    while True:
        port = random.randrange(20_000, 32_000)
        with socket.socket() as first, socket.socket() as second:
            try:
                first.bind(("127.0.0.1", port))
                second.bind(("127.0.0.1", port + 1))
            except OSError:
                continue
            return port


@dataclass
class Running:
    """A running application."""

    data: Path
    port: int
    process: subprocess.Popen[str]
    log: Path

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self.port}"

    @property
    def monitor_url(self) -> str:
        return f"ws://127.0.0.1:{self.port + 1}/monitor"

    def child(self, words: str) -> int:
        """Return the process id of the child whose command holds some words."""
        command = ["ps", "--ppid", str(self.process.pid), "-o", "pid=,args="]
        listed = subprocess.run(command, capture_output=True, text=True, check=True)
        return next(int(line.split()[0]) for line in listed.stdout.splitlines() if words in line)

    def postmaster(self) -> int:
        """Return the process id of the database server."""
        return int((self.data / "database/cluster/postmaster.pid").read_text().split("\n")[0])

    def __enter__(self) -> "Running":
        return self

    def __exit__(self, kind: object, *_: object) -> None:
        status = self.stop()
        assert kind is not None or status == 0

    def stop(self, how: signal.Signals = signal.SIGINT) -> int:
        self.process.send_signal(how)
        return self.process.wait(30)


def start_mivlo(data: Path, *, demo: bool = True, largest_file_bytes: int | None = None, **settings: object) -> Running:
    """Start a Mivlo; with a largest file, whatever it writes beyond that fails, as on a disk that is full."""
    environment = os.environ | {f"MIVLO_{name.upper()}": str(value) for name, value in settings.items()}
    port, log = free_pair_of_ports(), data.with_suffix(".log")
    command = [sys.executable, "-m", "mivlo.server.run", "--port", str(port), "--data", str(data)]
    command += ["--web", str(ROOT / "web/dist"), "--demo-folder", str(ROOT / "demo"), *([] if demo else ["--no-demo"])]
    if largest_file_bytes is not None:
        command = ["prlimit", f"--fsize={largest_file_bytes}", *command]
    with log.open("w") as out:
        process = subprocess.Popen(command, stdout=out, stderr=subprocess.STDOUT, text=True, env=environment)
    running = Running(data, port, process, log)
    deadline = time.monotonic() + START_SECONDS
    while "Mivlo is at" not in log.read_text():
        assert process.poll() is None, log.read_text()
        assert time.monotonic() < deadline, log.read_text()
        time.sleep(0.1)
    return running


@pytest.fixture(scope="session")
def scratch() -> Iterator[Path]:
    """Return a folder that the database's own user may enter."""
    folder = Path(tempfile.mkdtemp(prefix="mivlo-test-"))
    folder.chmod(0o755)
    yield folder
    shutil.rmtree(folder, ignore_errors=True)


@pytest.fixture(scope="session")
def mivlo(scratch: Path) -> Iterator[Running]:
    """Return a running application with the demo session."""
    # What is listened to in the background has tests of its own: here it would only take time from the others.
    running = start_mivlo(scratch / "data", foresees=False)
    yield running
    assert running.stop() == 0, running.log.read_text()
    assert "Traceback" not in running.log.read_text(), running.log.read_text()[-6_000:]
    assert not (running.data / "database/cluster/postmaster.pid").exists()


@pytest.fixture(scope="session")
def http(mivlo: Running) -> Iterator[httpx.Client]:
    """Return a client of the API."""
    with httpx.Client(base_url=mivlo.url, timeout=60.0, trust_env=False) as client:
        yield client


class InThread:
    """A worker in a thread of this process."""

    def __init__(self) -> None:
        self._loop = asyncio.new_event_loop()
        self._stop = asyncio.Event()
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._thread.start()

    def _run(self) -> None:
        self._loop.run_until_complete(work("in a thread", ALL_QUEUES, stop=self._stop))
        self._loop.run_until_complete(self._loop.shutdown_default_executor())
        self._loop.close()

    def stop(self) -> None:
        self._loop.call_soon_threadsafe(self._stop.set)
        self._thread.join()


@pytest.fixture(scope="session")
def api(scratch: Path) -> Iterator[httpx.Client]:
    """Return a client of the API in this very process, on a database of its own: for whatever needs no other one."""
    data = scratch / "in-process"
    (data / "audio").mkdir(parents=True)
    cluster = start_cluster(data / "database")
    os.environ |= {"MIVLO_DATA": str(data), "MIVLO_DATABASE_URL": cluster.url, "MIVLO_FORESEES": "false"}
    migrate()
    port = free_pair_of_ports()
    app = LocalOnly(create_app(web=ROOT / "web/dist"), own_port=port, page_port=port)
    server = uvicorn.Server(uvicorn.Config(app, port=port, log_level="warning"))
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()
    while not server.started:
        assert thread.is_alive()
        time.sleep(0.02)
    worker = InThread()
    with httpx.Client(base_url=f"http://127.0.0.1:{port}", timeout=60.0, trust_env=False) as client:
        yield client
    worker.stop()
    server.should_exit = True
    thread.join()
    engine().dispose()
    cluster.stop()


@pytest.fixture(scope="session")
def demo(http: httpx.Client) -> dict:
    """Return the demo session as it was loaded."""
    summary = next(one for one in http.get("/api/sessions").json() if one["is_demo"])
    return http.get(f"/api/sessions/{summary['id']}").json()


os.environ.setdefault("NO_PROXY", "127.0.0.1,localhost")
