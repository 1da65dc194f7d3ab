"""Mivlo as a developer runs it, and as somebody installs it."""

import json
import os
import re
import shutil
import signal
import subprocess
import sys
import sysconfig
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import httpx
import pytest
from websockets.sync.client import connect

import mivlo as package
from mivlo.server.db.cluster import start_cluster

from ..conftest import ROOT, free_pair_of_ports
from .helpers import analysed, session_with_track

PLAIN = {name: value for name, value in os.environ.items() if name != "PYTHONPATH"}


@contextmanager
def running(command: list[str], log: Path, **kind) -> Iterator[subprocess.Popen]:
    """Run an application until the block ends; it has to stop by itself then."""
    with log.open("w") as out:
        process = subprocess.Popen(command, stdout=out, stderr=subprocess.STDOUT, **kind)
    try:
        until(lambda: "Mivlo is at" in log.read_text() or process.poll() is not None, 120)
        assert process.poll() is None, log.read_text()
        yield process
    finally:
        print(log.read_text())  # seen where the test fails
        process.send_signal(signal.SIGINT)
        assert process.wait(40) == 0, log.read_text()


def until(condition: Callable[[], object], seconds: float) -> None:
    deadline = time.monotonic() + seconds
    while not condition():
        assert time.monotonic() < deadline, f"not within {seconds} s"
        time.sleep(0.1)


def answer(http: httpx.Client, path: str) -> httpx.Response | None:
    try:
        told = http.get(path)
        return told if told.status_code == 200 else None
    except httpx.TransportError:
        return None


def test_dev_reloads_the_server_and_replaces_the_front_end_while_it_runs(scratch):
    copy = scratch / "checkout"
    shutil.copytree(ROOT / "src", copy / "src")  # with its compiled loops: they take a minute to compile anew
    shutil.copytree(ROOT / "web", copy / "web", ignore=shutil.ignore_patterns("node_modules", "dist"))
    (copy / "web/node_modules").symlink_to(ROOT / "web/node_modules")
    port = free_pair_of_ports()
    command = [sys.executable, "-m", "mivlo.server.run", "--dev", str(copy / "web"), "--port", str(port)]
    command += ["--data", str(scratch / "dev-data"), "--no-demo"]
    own_port = {"PYTHONPATH": str(copy / "src")}
    with (
        running(command, scratch / "dev.log", env=PLAIN | own_port),
        httpx.Client(
            base_url=f"http://127.0.0.1:{port}",
            headers={"origin": f"http://127.0.0.1:{port}"},
            timeout=20,
            trust_env=False,
        ) as http,
    ):
        until(lambda: (page := answer(http, "/")) and "/@vite/client" in page.text, 60)
        assert http.get("/api/about").json()["version"] == package.__version__
        made = http.post("/api/sessions", json={"name": "From the page", "sample_rate_hz": 48_000})
        assert made.status_code == 201
        version = copy / "src/mivlo/__init__.py"
        version.write_text(version.read_text().replace(package.__version__, "9.9.9"))
        until(lambda: (told := answer(http, "/api/about")) and told.json().get("version") == "9.9.9", 60)
        assert [one["name"] for one in http.get("/api/sessions").json()] == ["From the page"]
        screen = copy / "web/src/App.vue"
        assert "RouterView" in http.get("/src/App.vue").text
        token = re.search(r'wsToken = "([^"]+)"', http.get("/@vite/client").text)
        assert token
        with connect(
            f"ws://127.0.0.1:{port}/?token={token[1]}", subprotocols=["vite-hmr"], origin=f"http://127.0.0.1:{port}"
        ) as hot:
            assert json.loads(hot.recv(timeout=20))["type"] == "connected"
            screen.write_text(screen.read_text().replace("<RouterView />", "<RouterView data-changed />"))
            until(lambda: json.loads(hot.recv(timeout=30))["type"] in ("update", "full-reload"), 60)
        assert "data-changed" in http.get("/src/App.vue").text


@pytest.fixture(scope="module")
def installed(scratch) -> Path:
    """Return the `mivlo` of a fresh environment with nothing of ours but the wheel."""
    built = subprocess.run([ROOT / "mivlo", "wheel", scratch / "wheels"], capture_output=True, text=True, check=False)
    assert built.returncode == 0, built.stderr
    (wheel,) = (scratch / "wheels").glob("mivlo-*.whl")
    assert package.__version__ in wheel.name
    fresh = scratch / "fresh"
    subprocess.run([sys.executable, "-m", "venv", fresh], check=True)
    site = next((fresh / "lib").glob("python*/site-packages"))
    # Other people's packages are those that are installed here; a .pth file in there, as ours is, is not read.
    (site / "others.pth").write_text(sysconfig.get_paths()["purelib"])
    pip = [fresh / "bin/python", "-m", "pip", "install", "--no-deps", "--no-index", "--quiet", wheel]
    subprocess.run(pip, check=True, env=PLAIN)
    where = [fresh / "bin/python", "-c", "import mivlo; print(mivlo.__file__)"]
    told = subprocess.run(where, cwd="/", env=PLAIN, capture_output=True, text=True, check=True).stdout
    assert told.startswith(str(fresh))
    return fresh / "bin/mivlo"


def test_a_wheel_works_alone_with_every_verb(installed, scratch):
    def verb(*words: object) -> str:
        command = [str(installed), *map(str, words)]
        done = subprocess.run(command, cwd="/", env=PLAIN, capture_output=True, text=True, check=False)
        assert done.returncode == 0, done.stderr
        return done.stdout

    treatment = scratch / "treatment.json"
    treatment.write_text('{"mivlo_treatment": 1, "moves": [{"kind": "bell", "hz": 431, "gain_db": -6, "q": 8}]}')
    assert json.loads(verb("response", treatment, "--at", "431", "--json"))
    sound = ROOT / "demo/tracks" / json.loads((ROOT / "demo/session.json").read_text())["tracks"][0]["file"]
    assert verb("measure", sound, "--json")
    assert json.loads(verb("find", sound, "--json"))  # the finder's weights are inside
    verb("apply", treatment, sound, scratch / "out.wav")
    assert (scratch / "out.wav").stat().st_size > 100_000


def test_a_wheel_serves_the_built_page_on_somebody_elses_database(installed, scratch):
    cluster = start_cluster(scratch / "elsewhere")
    port = free_pair_of_ports()
    address = cluster.url.replace("postgresql+psycopg://", "postgresql://")
    command = [str(installed), "serve", "--database", address, "--data", str(scratch / "served"), "--port", str(port)]
    try:
        with (
            running(command, scratch / "serve.log", cwd="/", env=PLAIN),
            httpx.Client(base_url=f"http://127.0.0.1:{port}", timeout=60, trust_env=False) as http,
        ):
            page = http.get("/").text
            assert '<div id="app">' in page
            script = page.partition('src="')[2].partition('"')[0]
            assert http.get(script).status_code == 200
            state = session_with_track(http)
            assert len(analysed(http, state, "waveform", strip_id=state["tracks"][0]["id"])["lowest"]) == 1_200
        assert cluster.is_running()  # it is not ours to stop
    finally:
        cluster.stop()
