"""A backup made while Mivlo runs comes back on an empty folder, whole; a damaged one brings nothing."""

import hashlib
import subprocess
import sys
import zipfile
from pathlib import Path

import httpx
import pytest

from ..conftest import start_mivlo
from .helpers import bell, edit, finished, session_with_track, set_strip


def mivlo_verb(*words: object) -> subprocess.CompletedProcess[str]:
    command = [sys.executable, "-m", "mivlo", *map(str, words)]
    return subprocess.run(command, capture_output=True, text=True, check=False, timeout=240)


@pytest.fixture(scope="module")
def saved(http, mivlo, scratch) -> tuple[Path, dict, bytes]:
    """A backup of the running application, one of its sessions, and a file that was handed over."""
    state = session_with_track(http, seconds=1.0)
    state = edit(http, state, set_strip(state["tracks"][0], ledger=[bell()])).json()
    made = http.post(f"/api/sessions/{state['id']}/handovers", json={"what": "mix"}).json()
    assert finished(http, state["id"], made["id"])["status"] == "done"
    handed = http.get(f"/api/handovers/{made['id']}/files/0").content
    done = mivlo_verb("backup", scratch / "all.backup", "--data", mivlo.data)
    assert done.returncode == 0, done.stderr
    return scratch / "all.backup", http.get(f"/api/sessions/{state['id']}").json(), handed


def test_everything_comes_back_on_another_folder(saved, scratch):
    path, state, handed = saved
    there = scratch / "other machine"
    done = mivlo_verb("restore", path, "--data", there)
    assert done.returncode == 0, done.stderr
    with start_mivlo(there, demo=False, foresees=False) as other, httpx.Client(base_url=other.url, timeout=60) as http:
        assert http.get(f"/api/sessions/{state['id']}").json() == state
        assert any(one["is_demo"] for one in http.get("/api/sessions").json())
        [made] = http.get(f"/api/sessions/{state['id']}/handovers").json()
        assert http.get(f"/api/handovers/{made['id']}/files/0").content == handed
        again = http.post(f"/api/sessions/{state['id']}/handovers", json={"what": "mix"}).json()
        assert finished(http, state["id"], again["id"])["status"] == "done"
        rendered = http.get(f"/api/handovers/{again['id']}/files/0").content
        assert hashlib.sha256(rendered).digest() == hashlib.sha256(handed).digest()
        now = edit(http, state, set_strip(state["tracks"][0], name="Goes on")).json()
        assert now["revision"] == state["revision"] + 1
    refused = mivlo_verb("restore", path, "--data", there)
    assert (refused.returncode, "is not empty" in refused.stderr) == (1, True)


@pytest.mark.parametrize("what", ["flipped", "exchanged", "cut", "newer", "outwards"])
def test_of_a_damaged_backup_nothing_comes_back(saved, scratch, tmp_path, what):
    data = bytearray(saved[0].read_bytes())
    wrong = tmp_path / "wrong.backup"
    if what == "flipped":
        data[len(data) // 3] ^= 1
        wrong.write_bytes(data)
    elif what == "exchanged":  # whole, but another file than was saved
        with zipfile.ZipFile(saved[0]) as old, zipfile.ZipFile(wrong, "w") as new:
            for name in old.namelist():
                held = old.read(name)
                new.writestr(name, bytes([held[0] ^ 1]) + held[1:] if name.startswith("audio/") else held)
    elif what == "cut":
        wrong.write_bytes(data[: len(data) // 2])
    else:
        wrong.write_bytes(data)
        told = {"newer": '{"mivlo_backup": 2, "files": {}}'}.get(
            what, '{"mivlo_backup": 1, "files": {"audio/../../x": {"sha256": "0", "bytes": 1}}}'
        )
        with zipfile.ZipFile(saved[0]) as old, zipfile.ZipFile(wrong, "w") as new:
            for name in old.namelist():
                new.writestr(name, told if name == "manifest.json" else old.read(name))
    there = scratch / f"nothing {what}"
    refused = mivlo_verb("restore", wrong, "--data", there)
    assert refused.returncode == 1
    assert refused.stderr.startswith("mivlo: ")
    assert "Traceback" not in refused.stderr
    assert not there.exists() or not any(there.iterdir())
