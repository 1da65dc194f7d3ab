"""Files, and ZIPs of files, that are dropped before there is a session: looked at, bounded, taken in, or named."""

import io
import zipfile

import pytest

from mivlo.server.settings import settings

from .helpers import wav


def zipped(**entries: bytes) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in entries.items():
            archive.writestr(name, data)
    return out.getvalue()


def staged(http, name: str, data: bytes):
    return http.post("/api/staged", files={"file": (name, data)})


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
        state = api.post(f"/api/sessions/{state['id']}/tracks/staged/{one}").json()
    assert [(one["name"], one["role"]) for one in state["tracks"]] == [
        ("kick", "kick"), ("evil voice", "lead voice"), ("bass", "bass"),
    ]  # fmt: skip
    assert state["audio"][state["tracks"][2]["audio_id"]]["n_frames"] == round(0.3 * 44_100)
    gone = api.post(f"/api/sessions/{state['id']}/tracks/staged/{ids[0]}")
    assert (gone.status_code, "bring it in again" in gone.json()["message"]) == (404, True)


def test_a_single_file_and_a_bundle_are_told_apart(api):
    [one] = staged(api, "voice.flac.wav", wav(0.2)).json()
    assert (one["kind"], one["rate_hz"], one["n_channels"], one["seconds"]) == ("sound", 48_000, 1, 0.2)
    state = api.post("/api/sessions", json={"name": "One", "staged": [one["id"]]}).json()
    api.post(f"/api/sessions/{state['id']}/tracks/staged/{one['id']}")
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
    before = sorted((settings().data / "incoming").iterdir())  # of the application in this very process
    refused = staged(api, "bad.zip", data)
    assert refused.status_code == status, refused.text
    assert told in refused.json()["message"]
    assert sorted((settings().data / "incoming").iterdir()) == before


def test_an_id_that_is_no_id_opens_no_file(api):
    for wrong in ("../../../../etc/passwd", "x" * 32):
        assert api.post("/api/sessions", json={"name": "x", "staged": [wrong]}).status_code == 422
