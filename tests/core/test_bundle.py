"""Bundles: the files come out to the byte, whatever was cut off, edited or made by a newer version is refused."""

import json
import subprocess
import sys
import zipfile
from pathlib import Path

import jsonschema
import numpy as np
import pytest
import soundfile
from typer.testing import CliRunner

from mivlo.cli import app
from mivlo.core.bundle import Bundle, renamed, write_bundle
from mivlo.core.engine.mix import mix_of_session
from mivlo.core.engine.render import render_mix, render_track
from mivlo.core.engine.source import ArraySource
from mivlo.core.errors import BundleError
from mivlo.core.model import RecordedSession

from ..conftest import ROOT

RATE = 48_000
IDS = {name: f"{number:032x}" for number, name in enumerate(("s", "drum", "voice", "mix", "d.wav", "v.wav", "ref"), 1)}
BELL = {"kind": "bell", "hz": 800.0, "gain_db": -9.0, "q": 3.0}
DUCK = {"kind": "dynamic-bell", "hz": 500.0, "threshold_db": -50.0, "listens_to": IDS["drum"]}


@pytest.fixture(scope="module")
def made(tmp_path_factory) -> tuple[Path, RecordedSession, dict[str, np.ndarray]]:
    """A bundle of two tracks in two treatments, one of them ducking to the other, with a reference and a remark."""
    folder = tmp_path_factory.mktemp("bundle")
    random = np.random.default_rng(8)
    sounds = {
        IDS["d.wav"]: 0.1 * random.standard_normal((1, RATE)),
        IDS["v.wav"]: 0.1 * random.standard_normal((2, RATE)),
    }
    audio = {}
    for audio_id, x in sounds.items():
        soundfile.write(folder / audio_id, x.T, RATE, "FLOAT", format="WAV")
        facts = {"format": "WAV", "subtype": "FLOAT", "original_rate_hz": RATE, "original_frames": RATE}
        audio[audio_id] = {
            "id": audio_id,
            "original_name": f"{audio_id[-1]}.wav",
            "n_channels": len(x),
            "n_frames": RATE,
            **facts,
        }
    variant = {"ledger": [{"id": "b", "move": BELL}]}
    tracks = [
        {"id": IDS["drum"], "name": "Drum", "role": "kick", "audio_id": IDS["d.wav"], "variants": {"B": variant}},
        {"id": IDS["voice"], "name": "Voice", "audio_id": IDS["v.wav"], "gain_db": -3.0,
         "ledger": [{"id": "a", "move": DUCK}],
         "remarks": [{"id": "r", "text": "boxy", "at_s": 0.5}]},
    ]  # fmt: skip
    session = RecordedSession.model_validate(
        {"id": IDS["s"], "name": "Invented song", "sample_rate_hz": RATE, "tracks": tracks, "audio": audio,
         "treatments": [{"letter": "A"}, {"letter": "B", "name": "bolder"}],
         "master": {"id": IDS["mix"], "name": "Mix"},
         "references": [{"id": IDS["ref"], "name": "Theirs", "audio_id": IDS["v.wav"]}],
         "right_of_way": {"order": [IDS["voice"], IDS["drum"]]}}
    )  # fmt: skip
    write_bundle(folder / "song.zip", session, folder.joinpath, [])
    return folder / "song.zip", session, sounds


def test_files_come_out_to_the_byte_and_the_manifest_is_by_its_schema(made, tmp_path):
    path, session, _ = made
    schema = json.loads((ROOT / "docs/bundle.schema.json").read_text())
    with zipfile.ZipFile(path) as archive:
        jsonschema.validate(json.loads(archive.read("session.json")), schema)
        assert sorted(archive.namelist()) == sorted(["session.json", f"audio/{IDS['d.wav']}", f"audio/{IDS['v.wav']}"])
    with Bundle(path) as bundle:
        assert bundle.manifest.session == session
        for audio_id, file in bundle.extract_all(tmp_path).items():
            assert file.read_bytes() == (path.parent / audio_id).read_bytes()
        again = renamed(bundle.manifest, iter(f"{number:032x}" for number in range(100, 200)).__next__, {})
    voice = again.session.tracks[1]
    assert voice.ledger[0].move.listens_to == again.session.tracks[0].id != IDS["drum"]
    assert again.session.right_of_way.order == (voice.id, again.session.tracks[0].id)
    assert not {one.id for one in again.session.strips()} & set(IDS.values())


def test_what_is_rendered_of_a_bundle_is_what_the_engine_makes_of_its_session(made, tmp_path):
    path, session, sounds = made
    for letter in "AB":
        treated = session.as_treated(letter)
        mix = mix_of_session(treated)
        opened = {audio_id: ArraySource(x.astype(np.float32).astype(float)) for audio_id, x in sounds.items()}
        out = tmp_path / letter
        command = [sys.executable, "-m", "mivlo", "render", str(path), str(out), "--treatment", letter]
        for more in ([], ["--what", "mix", "--no-level-match"]):
            done = subprocess.run(
                [*command, *more, "--output", "wav-float"], capture_output=True, text=True, check=False
            )
            assert done.returncode == 0, done.stderr
        for track, name in zip(treated.tracks, ("5 mivlo.wav", "6 mivlo.wav"), strict=True):
            blocks = render_track(mix, track.id, opened.__getitem__, start=0, end=RATE, sample_rate_hz=RATE)
            file, _ = soundfile.read(out / name, always_2d=True)
            assert np.array_equal(file.T, np.concatenate(list(blocks), axis=1).astype(np.float32))
        blocks = render_mix(mix, opened.__getitem__, start=0, end=RATE, sample_rate_hz=RATE)
        file, _ = soundfile.read(out / "Invented song mix mivlo.wav", always_2d=True)
        assert np.array_equal(file.T, np.concatenate(list(blocks), axis=1).astype(np.float32))


def test_the_round_and_the_report_of_a_bundle_are_told_without_server_or_database(made):
    path, _, _ = made
    told = CliRunner().invoke(app, ["report", str(path), "--treatment", "B", "--json"], catch_exceptions=False)
    report = json.loads(told.stdout)
    assert report["treatment"] == "Treatment B: bolder"
    assert report["strips"][0]["moves"][0]["sentence"] == "800 Hz bell, \u22129.0 dB"
    assert report["strips"][1]["remarks"][0]["text"] == "boxy"
    assert report["before"]["loudness_lufs"] > report["after"]["loudness_lufs"]
    rows = json.loads(CliRunner().invoke(app, ["round", str(path), "--json"], catch_exceptions=False).stdout)
    assert rows["waiting"] == 0
    assert any(row["kind"] == "remark" for row in rows["rows"])
    wrong = CliRunner().invoke(app, ["render", str(path), "out", "--treatment", "C"])
    assert (wrong.exit_code, "treatment C is not in this session" in wrong.stderr) == (2, True)


def edited(path: Path, target: Path, change) -> Path:
    """Copy a bundle with what `change` makes of its entries (name to bytes)."""
    with zipfile.ZipFile(path) as archive:
        entries = {name: archive.read(name) for name in archive.namelist()}
    change(entries)
    with zipfile.ZipFile(target, "w") as archive:
        for name, data in entries.items():
            archive.writestr(name, data)
    return target


def of_manifest(**fields):
    def change(entries: dict[str, bytes]) -> None:
        entries["session.json"] = json.dumps(json.loads(entries["session.json"]) | fields).encode()

    return change


def swapped(entries: dict[str, bytes]) -> None:
    entries[f"audio/{IDS['d.wav']}"] = entries[f"audio/{IDS['v.wav']}"]


def louder(entries: dict[str, bytes]) -> None:
    data = json.loads(entries["session.json"])
    data["session"]["tracks"][1]["gain_db"] = 400
    entries["session.json"] = json.dumps(data).encode()


def outwards(entries: dict[str, bytes]) -> None:
    data = json.loads(entries["session.json"])
    data["files"][IDS["d.wav"]]["path"] = "../../etc/passwd"
    entries["session.json"] = json.dumps(data).encode()


@pytest.mark.parametrize(
    ("change", "told"),
    [
        (of_manifest(mivlo_bundle=2), "made by a newer Mivlo"),
        (of_manifest(files={}), "is not named in files"),
        (of_manifest(more=1), "more: unknown field"),
        (lambda entries: entries.pop("session.json"), "holds no session.json"),
        (lambda entries: entries.update({"session.json": b"{"}), "damaged"),
        (lambda entries: entries.pop(f"audio/{IDS['d.wav']}"), "missing or damaged"),
        (swapped, "is not the file that was put in"),
        (louder, "gain_db"),
        (outwards, "files.*path"),
    ],
)
def test_a_bundle_that_was_edited_is_refused_by_what_is_wrong_and_nothing_is_left(made, tmp_path, change, told):
    wrong = edited(made[0], tmp_path / "wrong.zip", change)
    out = tmp_path / "out"
    out.mkdir()
    with pytest.raises(BundleError, match=told), Bundle(wrong) as bundle:
        bundle.extract_all(out)
    assert not out.exists() or not any(out.iterdir())


@pytest.mark.parametrize("part", [0.2, 0.9, 0.999])
def test_a_bundle_that_was_cut_off_or_has_a_flipped_bit_is_refused(made, tmp_path, part):
    data = bytearray(made[0].read_bytes())
    (tmp_path / "cut.zip").write_bytes(data[: int(part * len(data))])
    with pytest.raises(BundleError, match="no bundle, or was cut off"):
        Bundle(tmp_path / "cut.zip")
    data[int(0.5 * part * len(data))] ^= 1
    (tmp_path / "flipped.zip").write_bytes(data)
    (tmp_path / "out").mkdir()
    with pytest.raises(BundleError), Bundle(tmp_path / "flipped.zip") as bundle:
        bundle.extract_all(tmp_path / "out")
