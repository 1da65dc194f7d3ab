"""Files, and ZIPs of files, that are dropped before there is a session: looked at, bounded, taken in, or named."""

import io
import zipfile
from pathlib import Path

import numpy as np
import pytest
import soundfile

from mivlo.core.metadata.containers import put_into
from mivlo.core.metadata.parts import Part
from mivlo.server.settings import settings

from .helpers import new_session, upload, wav


def zipped(**entries: bytes) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in entries.items():
            archive.writestr(name, data)
    return out.getvalue()


def staged(http, name: str, data: bytes):
    return http.post("/api/staged", files={"file": (name, data)})


def taken(http, state: dict, *ids: str, **how: str):
    return http.post(f"/api/sessions/{state['id']}/tracks/staged", json={"file_ids": list(ids), **how})


def folder_of(state: dict, at: int) -> Path:
    return settings().audio_folder(state["tracks"][at]["audio_id"])


def test_many_channels_become_tracks_or_pairs_once_somebody_says_which(api):
    state = new_session(api)
    before = sorted((settings().data / "incoming").glob("*"))
    for how, n_channels in (("mono", [1] * 5), ("pairs", [2, 2, 1])):
        [found] = staged(api, "Room mics.wav", wav(0.3, channels=5)).json()
        assert found["n_channels"] == 5
        asked = taken(api, state, found["id"])
        assert (asked.status_code, "each becomes a track" in asked.json()["message"]) == (422, True)
        after = taken(api, state, found["id"], channels=how).json()
        new = after["tracks"][len(state["tracks"]) :]
        assert [after["audio"][one["audio_id"]]["n_channels"] for one in new] == n_channels
        state = after
    assert [one["name"] for one in state["tracks"][5:]] == ["Room mics 1+2", "Room mics 3+4", "Room mics 5"]
    assert sorted((settings().data / "incoming").glob("*")) == before


def test_left_and_right_are_offered_as_one_and_joined(api):
    state = new_session(api)
    files = {"Overheads L.wav": 48_000, "Bass.wav": 48_000, "Overheads R.wav": 48_000, "Pad R.wav": 48_000,
             "Pad L.wav": 44_100}  # fmt: skip
    ids = {
        name: staged(api, name, wav(0.3, rate=rate, seed=at)).json()[0]["id"]
        for at, (name, rate) in enumerate(files.items())
    }
    [pair] = api.post("/api/staged/pairs", json=list(ids.values())).json()
    sides = {"left": ids["Overheads L.wav"], "right": ids["Overheads R.wav"]}
    assert pair == {**sides, "name": "Overheads", "shorter_by_s": 0.0}
    longer = staged(api, "Overheads R.wav", wav(0.5, seed=2)).json()[0]["id"]
    [uneven] = api.post("/api/staged/pairs", json=[ids["Overheads L.wav"], longer]).json()
    assert uneven["shorter_by_s"] == pytest.approx(0.2, abs=1e-3)
    refused = taken(api, state, ids["Pad L.wav"], ids["Pad R.wav"])
    assert (refused.status_code, "44100 Hz and 48000 Hz" in refused.json()["message"]) == (422, True)
    [track] = taken(api, state, pair["left"], pair["right"]).json()["tracks"]
    assert (track["name"], track["role"]) == ("Overheads", "cymbals")
    kept = soundfile.read(settings().audio_folder(track["audio_id"]) / "original")[0]
    sides = [soundfile.read(io.BytesIO(wav(0.3, seed=at)))[0] for at in (0, 2)]
    assert np.array_equal(kept.T, sides)


def test_sides_that_begin_at_different_times_are_no_pair(api, tmp_path):
    state, ids = new_session(api), []
    for name, time in (("Room L.wav", 48_000), ("Room R.wav", 48_960), ("Room right.wav", 48_000)):
        path = tmp_path / name
        path.write_bytes(wav(0.3))
        put_into(path, [Part(b"bext", bytes(338) + time.to_bytes(8, "little") + bytes(256))])
        ids.append(staged(api, name, path.read_bytes()).json()[0]["id"])
    assert api.post("/api/staged/pairs", json=ids[:2]).json() == []
    refused = taken(api, state, *ids[:2])
    assert (refused.status_code, "begin at different times" in refused.json()["message"]) == (422, True)
    assert taken(api, state, ids[0], ids[2]).status_code == 201


def test_the_same_file_is_stored_once_and_outlives_who_had_it_first(api):
    data = wav(0.4, rate=44_100, seed=5)
    first = upload(api, new_session(api)["id"], "a.wav", data).json()
    second = upload(api, new_session(api)["id"], "b.wav", data).json()
    other_rate = upload(api, new_session(api, rate=96_000)["id"], "c.wav", data).json()
    for name, state, is_same in (("original", second, True), ("session.npy", second, True),
                                 ("original", other_rate, True), ("session.npy", other_rate, False)):  # fmt: skip
        assert (folder_of(state, 0) / name).samefile(folder_of(first, 0) / name) == is_same
    assert second["audio"][second["tracks"][0]["audio_id"]]["original_name"] == "b.wav"
    # The third session has the file too, but not what was made of it at another rate.
    of_other = sum(file.stat().st_blocks * 512 for file in folder_of(other_rate, 0).glob("session.npy"))
    for state, freed_bytes in ((first, 0), (other_rate, of_other)):
        told = api.delete(f"/api/sessions/{state['id']}", params={"for_good": True}).json()
        assert told == {"freed_bytes": freed_bytes}
    assert (folder_of(second, 0) / "original").read_bytes() == data
    assert len(np.load(folder_of(second, 0) / "session.npy")[0]) == round(0.4 * 48_000)


def test_a_zip_of_stems_becomes_a_session_at_the_rate_that_most_have(api, tmp_path):
    stems = {
        "Song/kick.wav": wav(0.4, rate=44_100),
        "Song/../../../evil voice.wav": wav(0.5, rate=44_100, seed=2),
        "Song/bass.wav": wav(0.3, rate=96_000, seed=3),
        "Song/notes.txt": b"louder please" * 20,
        "__MACOSX/Song/._kick.wav": b"x",
        "Song/.hidden.wav": wav(0.1),
    }
    found = staged(api, "Song.zip", zipped(**stems)).json()
    assert [(one["name"], one["kind"]) for one in found] == [
        ("kick.wav", "sound"), ("evil voice.wav", "sound"), ("bass.wav", "sound"), ("notes.txt", "refused"),
    ]  # fmt: skip
    assert "cannot be read as audio" in found[3]["reason"]
    ids = [one["id"] for one in found if one["kind"] == "sound"]
    state = api.post("/api/sessions", json={"name": "Song", "staged": ids}).json()
    assert state["sample_rate_hz"] == 44_100
    for one in ids:
        state = taken(api, state, one).json()
    assert [(one["name"], one["role"]) for one in state["tracks"]] == [
        ("kick", "kick"), ("evil voice", "lead voice"), ("bass", "bass"),
    ]  # fmt: skip
    assert state["audio"][state["tracks"][2]["audio_id"]]["n_frames"] == round(0.3 * 44_100)
    gone = taken(api, state, ids[0])
    assert (gone.status_code, "bring it in again" in gone.json()["message"]) == (404, True)


def test_a_single_file_and_a_bundle_are_told_apart(api):
    [one] = staged(api, "voice.flac.wav", wav(0.2)).json()
    assert (one["kind"], one["rate_hz"], one["n_channels"], one["seconds"]) == ("sound", 48_000, 1, 0.2)
    state = api.post("/api/sessions", json={"name": "One", "staged": [one["id"]]}).json()
    taken(api, state, one["id"])
    bundle = api.get(f"/api/sessions/{state['id']}/bundle").content
    [found] = staged(api, "One.zip", bundle).json()
    assert found["kind"] == "bundle"
    again = api.post(f"/api/bundles/staged/{found['id']}").json()
    assert (again["name"], len(again["tracks"])) == ("One", 1)


def damaged() -> bytes:
    """A ZIP of two files, the second of which is not what its checksum says."""
    data = bytearray(zipped(**{"a.wav": wav(0.2), "b.wav": wav(1.0, seed=2)}))
    data[-30_000] ^= 255
    return bytes(data)


@pytest.mark.parametrize(
    ("data", "status", "told"),
    [
        (zipped(**{"bomb.wav": b"\0" * (40 << 20)}), 413, "which no sound does"),
        (zipped(**{f"{number}.wav": b"" for number in range(501)}), 413, "at most 500 are taken"),
        (damaged(), 422, "cannot be unpacked"),
    ],
    ids=["bomb", "many", "damaged"],
)
def test_a_zip_that_is_too_much_or_damaged_is_refused_and_leaves_nothing(api, data, status, told):
    before = sorted((settings().data / "incoming").glob("*"))  # of the application in this very process
    refused = staged(api, "bad.zip", data)
    assert refused.status_code == status, refused.text
    assert told in refused.json()["message"]
    assert sorted((settings().data / "incoming").glob("*")) == before


def test_an_id_that_is_no_id_opens_no_file(api):
    for wrong in ("../../../../etc/passwd", "x" * 32):
        assert api.post("/api/sessions", json={"name": "x", "staged": [wrong]}).status_code == 422
