"""A session travels: out of one application, into another with a database of its own, rendered to the same samples."""

import io
import subprocess
import sys

import numpy as np
import soundfile

from .helpers import bell, edit, finished, session_with_track, set_strip, wav


def handed_over(http, state: dict, **request) -> bytes:
    body = {"level_match": False, "output": "wav-float", **request}
    made = http.post(f"/api/sessions/{state['id']}/handovers", json=body).json()
    assert finished(http, state["id"], made["id"], 240)["status"] == "done"
    return http.get(f"/api/handovers/{made['id']}/files/0").content


def samples(data: bytes) -> np.ndarray:
    return soundfile.read(io.BytesIO(data), always_2d=True)[0].T


def test_the_demo_travels_to_another_application_and_to_a_process_without_any(http, api, demo, tmp_path):
    bundle = http.get(f"/api/sessions/{demo['id']}/bundle")
    assert "Boathouse" in bundle.headers["content-disposition"]
    (tmp_path / "demo.zip").write_bytes(bundle.content)
    there = api.post("/api/bundles", files={"file": ("demo.zip", bundle.content)})
    assert there.status_code == 201, there.text
    state = there.json()
    assert (state["name"], len(state["tracks"])) == (demo["name"], len(demo["tracks"]))
    assert not {one["id"] for one in state["tracks"]} & {one["id"] for one in demo["tracks"]}
    mix = handed_over(http, demo, what="mix")
    assert np.array_equal(samples(handed_over(api, state, what="mix")), samples(mix))
    command = [
        sys.executable,
        "-m",
        "mivlo",
        "render",
        str(tmp_path / "demo.zip"),
        str(tmp_path / "out"),
        "--what",
        "mix",
    ]
    subprocess.run([*command, "--no-level-match", "--output", "wav-float"], check=True, timeout=240)
    [file] = (tmp_path / "out").iterdir()
    assert np.array_equal(samples(file.read_bytes()), samples(mix))
    assert api.delete(f"/api/sessions/{state['id']}").status_code == 200


def test_all_that_was_decided_travels_and_the_copy_stands_beside_the_first(api):
    state = session_with_track(api, seconds=2.0)
    track = state["tracks"][0]
    path = f"/api/sessions/{state['id']}"
    b = {"do": "add-treatment", "letter": "B", "of": "A", "name": "bolder"}
    deeper = {"do": "add-move", "treatment": "B", "strip_id": track["id"], "entry": bell("deep", gain_db=-20.0)}
    remark = {
        "do": "add-remark",
        "strip_id": track["id"],
        "remark": {"id": "r", "text": "boxy", "at_s": 0.5, "hz": 400},
    }
    state = edit(api, state, set_strip(track, ledger=[bell()]), b, deeper, remark).json()
    answer = api.post(f"{path}/references", files={"file": ("theirs.wav", wav(1.5, channels=2, seed=4))})
    assert answer.status_code == 201, answer.text
    compared = {"what": "one-move", "entry_id": "e1"}
    asked = {"asks": "hear", "compared": compared, "strip_id": track["id"], "n_trials": 5}
    check = api.post(f"{path}/blind-checks", json=asked).json()
    for trial in range(5):
        api.post(f"{path}/blind-checks/{check['id']}/answers", json={"trial": trial, "choice": "A"})
    [shown] = api.get(f"{path}/blind-checks").json()
    data = api.get(f"{path}/bundle").content
    copy = api.post("/api/bundles", files={"file": ("song.zip", data)}).json()
    there = f"/api/sessions/{copy['id']}"
    assert copy["treatments"] == answer.json()["treatments"]
    for letter, moves in (("A", 1), ("B", 2)):
        assert len(api.get(there, params={"treatment": letter}).json()["tracks"][0]["ledger"]) == moves
    assert copy["tracks"][0]["remarks"][0]["text"] == "boxy"
    assert copy["references"][0]["name"] == "theirs"
    [told] = api.get(f"{there}/blind-checks").json()
    assert told["result"] == shown["result"]
    assert told["asked"]["strip_id"] == copy["tracks"][0]["id"]
    # What is done to the copy is done to nothing else, and it has a bundle of its own.
    copy = edit(api, copy, set_strip(copy["tracks"][0], ledger=[])).json()
    assert len(api.get(path).json()["tracks"][0]["ledger"]) == 1
    assert api.get(f"{there}/bundle").content != data


def test_of_a_bundle_that_is_damaged_nothing_is_taken_in(api, tmp_path):
    state = session_with_track(api, seconds=1.0)
    data = bytearray(api.get(f"/api/sessions/{state['id']}/bundle").content)
    before = [one["id"] for one in api.get("/api/sessions").json()]
    data[len(data) // 2] ^= 255
    refused = api.post("/api/bundles", files={"file": ("song.zip", bytes(data))})
    assert (refused.status_code, refused.json()["code"]) == (422, "bad-bundle")
    refused = api.post("/api/bundles", files={"file": ("tune.wav", wav(0.1))})
    assert "is no bundle" in refused.json()["message"]
    assert [one["id"] for one in api.get("/api/sessions").json()] == before
