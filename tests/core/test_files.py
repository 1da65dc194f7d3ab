"""Files in and out, treatments, settings lists, and the command line that ties them together."""

import csv
import io
import json
import struct
import subprocess
import sys
from pathlib import Path

import jsonschema
import numpy as np
import pytest
import soundfile

from mivlo.core import audiofile
from mivlo.core.audiofile import (
    ImportLimits,
    inspect_audio,
    open_checked,
    read_blocks,
    resample_to_store,
    write_blocks,
)
from mivlo.core.errors import AudioFileError, TreatmentError
from mivlo.core.filters.biquad import frequency_response
from mivlo.core.metadata.containers import carried_by
from mivlo.core.metadata.parts import Part
from mivlo.core.model import LedgerEntry, Track
from mivlo.core.moves import MOVE_KINDS
from mivlo.core.moves.bell import Bell
from mivlo.core.moves.compressor import Compressor
from mivlo.core.moves.dynamic_bell import DynamicBell
from mivlo.core.moves.low_cut import LowCut
from mivlo.core.settings_list import Q_CONVENTION, list_rows, to_csv, to_page
from mivlo.core.treatment import parse_treatment

ROOT = Path(__file__).parents[2]
RATE = 48_000
GOOD = {
    "mivlo_treatment": 1,
    "moves": [
        {"kind": "bell", "hz": 431.0, "gain_db": -6.0, "q": 12.0, "on": True},
        {"kind": "low-cut", "hz": 90, "q": 0.7071, "slope_db_per_octave": 24},
    ],
}


def sweep(seconds: float = 1.0, channels: int = 2, rate: int = RATE) -> np.ndarray:
    t = np.arange(round(seconds * rate)) / rate
    x = 0.5 * np.sin(2 * np.pi * (50 * t + 1_500 * t * t / seconds))
    return np.stack([x, -0.5 * x][:channels])


def mivlo(*arguments: object, cwd: Path) -> subprocess.CompletedProcess[str]:
    command = [sys.executable, "-m", "mivlo", *map(str, arguments)]
    return subprocess.run(command, cwd=cwd, capture_output=True, text=True, check=False)


# Files in


@pytest.mark.parametrize(
    ("name", "subtype", "exact"),
    [
        ("a.wav", "PCM_16", 2**-15), ("a.wav", "PCM_24", 2**-23), ("a.wav", "PCM_32", 2**-24), ("a.wav", "FLOAT", 0.0),
        ("a.wav", "DOUBLE", 2**-24), ("a.aiff", "PCM_24", 2**-23), ("a.flac", "PCM_24", 2**-23),
        ("a.rf64", "PCM_24", 2**-23), ("a.w64", "FLOAT", 0.0), ("a.caf", "PCM_16", 2**-15),
    ],
)  # fmt: skip
def test_formats_that_come_in(tmp_path, name, subtype, exact):
    x = sweep().astype(np.float32).astype(np.float64)
    soundfile.write(tmp_path / name, x.T, RATE, subtype=subtype)
    info = inspect_audio(tmp_path / name, limits=ImportLimits(), name=name)
    assert (info.sample_rate_hz, info.n_channels, info.n_frames) == (RATE, 2, RATE)
    assert resample_to_store(tmp_path / name, tmp_path / "s.npy", info=info, rate_hz=RATE, name=name) == RATE
    assert np.max(np.abs(np.load(tmp_path / "s.npy") - x)) <= exact


@pytest.mark.parametrize("rate", [8_000, 44_100, 96_000, 192_000])
def test_rates_are_converted_without_colour_or_delay(tmp_path, rate):
    t = np.arange(rate * 2) / rate
    soundfile.write(tmp_path / "a.wav", 0.5 * np.sin(2 * np.pi * 997 * t), rate, subtype="FLOAT")
    info = inspect_audio(tmp_path / "a.wav", limits=ImportLimits(), name="a")
    assert resample_to_store(tmp_path / "a.wav", tmp_path / "s.npy", info=info, rate_hz=RATE, name="a") == 2 * RATE
    wanted = 0.5 * np.sin(2 * np.pi * 997 * np.arange(2 * RATE) / RATE)
    inside = slice(RATE // 2, 3 * RATE // 2)
    assert np.max(np.abs(np.load(tmp_path / "s.npy")[0][inside] - wanted[inside])) < 1e-5


def cut_short(path: Path, x: np.ndarray, part: float = 0.6, **kind: str) -> None:
    soundfile.write(path, x.T, RATE, **kind)
    data = path.read_bytes()
    path.write_bytes(data[: int(len(data) * part)])


def with_nan(path: Path) -> None:
    x = sweep()
    x[1, 777] = np.nan
    soundfile.write(path, x.T, RATE, subtype="FLOAT")


REFUSED = {
    "empty.wav": (lambda p: p.write_bytes(b""), "is empty"),
    "short.wav": (lambda p: cut_short(p, sweep(), subtype="PCM_24"), "truncated"),
    "short.aiff": (lambda p: cut_short(p, sweep(), subtype="PCM_16"), "truncated"),
    "short.flac": (lambda p: cut_short(p, sweep()), "damaged|truncated"),
    "header.wav": (lambda p: soundfile.write(p, np.zeros((0, 1)), RATE), "no sound"),
    "letter.wav": (lambda p: p.write_text("Dear Sir or Madam, " * 100), "cannot be read as audio"),
    "nan.wav": (with_nan, "sample 777 is not a number"),
    "surround.wav": (lambda p: soundfile.write(p, np.zeros((100, 6)), RATE), "6 channels, but at most 2"),
    "slow.wav": (lambda p: soundfile.write(p, np.zeros(100), 4_000), "4000 Hz must be from 8000 to 192000 Hz"),
    "long.wav": (lambda p: soundfile.write(p, np.zeros(2 * RATE), RATE), "2 s long, but at most 1 s"),
    "big.wav": (lambda p: soundfile.write(p, np.zeros(30_000), RATE, subtype="DOUBLE"), "bytes, but at most"),
}


def take_in(path: Path, limits: ImportLimits) -> None:
    inspect_audio(path, limits=limits, name=path.name)
    list(read_blocks(path, name=path.name))


@pytest.mark.parametrize("name", REFUSED)
def test_files_that_are_refused_say_why(tmp_path, name):
    make, reason = REFUSED[name]
    path = tmp_path / name
    make(path)
    limits = ImportLimits(max_bytes=200_000, max_seconds=1.0) if name in ("long.wav", "big.wav") else ImportLimits()
    with pytest.raises(AudioFileError, match=f"{name}: .*({reason})"):
        take_in(path, limits)


def test_a_streamed_wav_with_open_length_is_not_taken_for_truncated(tmp_path):
    path = tmp_path / "pipe.wav"
    soundfile.write(path, sweep().T, RATE, subtype="PCM_16")
    data = bytearray(path.read_bytes())
    at = data.index(b"data") + 4
    data[4:8] = data[at : at + 4] = struct.pack("<I", 0xFFFFFFFF)
    path.write_bytes(data)
    assert inspect_audio(path, limits=ImportLimits(), name="pipe.wav").n_frames == RATE


# Files out


def test_24_bit_is_dithered_and_float_is_exact(tmp_path):
    x = sweep()
    write_blocks(tmp_path / "f.wav", [x], n_channels=2, sample_rate_hz=RATE, output="wav-float", dither=True)
    back, _ = soundfile.read(tmp_path / "f.wav", dtype="float32")
    assert np.array_equal(back.T, x.astype(np.float32))
    quiet = np.full((1, 200_000), 0.3 * 2**-23)
    write_blocks(tmp_path / "d.wav", [quiet], n_channels=1, sample_rate_hz=RATE, output="wav-24", dither=True)
    steps = soundfile.read(tmp_path / "d.wav")[0] * 2**23
    # Triangular dither: the mean survives below one step, and the noise power is a quarter step squared.
    assert np.mean(steps) == pytest.approx(0.3, abs=0.01)
    assert np.var(steps) == pytest.approx(0.25, abs=0.02)


def test_a_file_is_whole_or_not_there(tmp_path):
    def breaks():
        yield sweep()
        raise OSError(28, "No space left on device")

    with pytest.raises(AudioFileError, match=r"t\.wav: cannot be written .*No space left"):
        write_blocks(tmp_path / "t.wav", breaks(), n_channels=2, sample_rate_hz=RATE, output="wav-24", dither=True)
    assert list(tmp_path.iterdir()) == []


def test_what_is_more_than_a_wav_file_holds_is_written_as_rf64_and_read_again_by_another_program(tmp_path, monkeypatch):
    x, path, note = sweep(), tmp_path / "long.wav", Part(b"note", b"odd")
    monkeypatch.setattr(audiofile, "MOST_WAVE_BYTES", 2 * 3 * RATE - 1)  # one byte under a second of stereo
    for n_frames, head in ((RATE, b"RF64"), (RATE // 2, b"RIFF")):
        part = x[:, :n_frames]
        write_blocks(
            path, [part], n_channels=2, sample_rate_hz=RATE, output="wav-24", dither=False, n_frames=n_frames,
            carries=[note],
        )  # fmt: skip
        assert path.read_bytes()[:4] == head
        assert list(carried_by(path)) == [note]
        asked = ["ffprobe", "-v", "error", "-show_entries", "stream=duration_ts,channels", "-of", "json", path]
        told = json.loads(subprocess.run(asked, capture_output=True, check=True).stdout)["streams"][0]
        assert told == {"channels": 2, "duration_ts": n_frames}
        info, source = open_checked(path, limits=ImportLimits(), name="long.wav")
        assert info.format == ("RF64" if head == b"RF64" else "WAV")
        assert np.abs(source.read(0, n_frames) - part).max() <= 2.0**-24


def test_clipping_is_counted(tmp_path):
    x = np.array([[0.5, 1.5, -2.0, 0.999]])
    assert write_blocks(tmp_path / "c.wav", [x], n_channels=1, sample_rate_hz=RATE, output="wav-24", dither=False) == 2


# Treatments


def test_the_published_schema_takes_what_the_reader_takes():
    schema = json.loads((ROOT / "docs/treatment.schema.json").read_text())
    validator = jsonschema.Draft202012Validator(schema)
    validator.validate(GOOD)
    parse_treatment(json.dumps(GOOD), name="t")
    kinds = {reference.rsplit("/", 1)[-1] for reference in json.dumps(schema).split('"') if "/$defs/" in reference}
    assert {model.__name__ for model in MOVE_KINDS.values()} <= kinds


def changed(**fields) -> dict:
    return {"mivlo_treatment": 1, "moves": [{**GOOD["moves"][0], **fields}]}


def changed_cut(**fields) -> dict:
    return {"mivlo_treatment": 1, "moves": [{"kind": "low-cut", "hz": 90, **fields}]}


@pytest.mark.parametrize(
    ("bad", "said"),
    [
        (changed(gain_db=31), r"moves\.0\.gain_db: .*31.*-30.*30"),
        (changed(hz=19.9), r"moves\.0\.hz: .*19\.9.*20.*20000"),
        (changed(q=0), r"moves\.0\.q: .*0\.1.*100"),
        (changed(shine=3), r"moves\.0\.shine: .*unknown"),
        (changed(kind="wobble"), r"moves\.0.*wobble.*bell.*notch"),
        (changed(width_octaves=0.1), r"moves\.0.*q and width_octaves"),
        ({**GOOD, "mivlo_treatment": 2}, r"mivlo_treatment: .*1"),
        ({**GOOD, "extra": 1}, r"extra: .*unknown"),
        (changed_cut(q=2, slope_db_per_octave=6), r"moves\.0.*q.*6 dB"),
        (changed_cut(slope_db_per_octave=20), r"slope_db_per_octave: .*6.*12.*18.*24"),
    ],
)  # fmt: skip
def test_bad_treatments_name_the_field_and_the_range(bad, said):
    with pytest.raises(TreatmentError, match=said):
        parse_treatment(json.dumps(bad), name="t.json")


def test_bad_json_is_told_with_its_place():
    with pytest.raises(TreatmentError, match=r"t\.json.*line 1"):
        parse_treatment('{"mivlo_treatment": 1,', name="t.json")


# Settings list


def test_the_settings_list_says_what_somebody_else_needs():
    ledger = (
        LedgerEntry(id="1", move=Bell(hz=440, gain_db=-6, q=4), reason="=SUM(A1)"),
        LedgerEntry(id="2", move=LowCut(hz=80, slope_db_per_octave=24, on=False)),
    )
    track = Track(id="t", audio_id="t", ledger=ledger)
    rows = list(csv.DictReader(io.StringIO(to_csv(list_rows([("Drum", track)], sample_rate_hz=RATE)))))
    assert rows[0]["hz"] == "440.00"
    assert rows[0]["note"] == "A4 +0 ct"
    assert rows[0]["width_octaves"] == "0.360"  # references.md 4.4
    assert rows[0]["reason"].startswith("'=")
    assert (rows[1]["on"], rows[1]["slope_db_per_octave"]) == ("no", "24")
    assert rows[0]["further"] == ""
    page = to_page("<b>Boat</b>", list_rows([("Drum", track)], sample_rate_hz=RATE))
    assert Q_CONVENTION.split(".")[0] in page
    assert "<b>Boat</b>" not in page


def test_the_settings_list_has_words_for_moves_that_follow_a_level_and_figures_as_they_act():
    ducks = DynamicBell(hz=300, depth_db=-5, threshold_db=-33.5, listens_to="v", key_hz=2_000, attack_ms=3,
                        times_s=((12.0, 13.5), (20.0, 21.0)))  # fmt: skip
    rings = DynamicBell(hz=431, depth_db=-8, trigger="after-stroke", channel="side")
    entries = tuple(LedgerEntry(id=str(n), move=move) for n, move in enumerate((ducks, rings)))
    guitar = Track(id="g", audio_id="g", ledger=entries, amount=50.0)
    voice = Track(id="v", audio_id="v", ledger=(LedgerEntry(id="c", move=Compressor(threshold_db=-20, ratio=3)),))
    rows = list_rows([("Guitar", guitar), ("Voice", voice)], sample_rate_hz=RATE, treatment="B drier")
    assert {row["treatment"] for row in rows} == {"B drier"}
    assert [(row["gain_db"], row["amount_pct"]) for row in rows] == [("-2.50", "50"), ("-4.00", "50"), ("", "100")]
    assert [row["times"] for row in rows] == ["12.00-13.50 s; 20.00-21.00 s", "", ""]
    assert [row["acts_on"] for row in rows] == ["both", "side", "both"]
    for told in ("threshold -33.5 dBFS", "attack 3 ms", "ratio 4:1", "listens to Voice", "listens at 2000 Hz",
                 "listening Q 1"):  # fmt: skip
        assert told in rows[0]["further"].split("; ")
    assert "acts after-stroke; stroke lasts 60 ms" in rows[1]["further"]
    assert "listens at: own band" in rows[1]["further"]
    assert "stroke" not in rows[0]["further"]
    # Of a compressor in line nothing is said of the copy that it does not put beside.
    assert "ratio 3:1" in rows[2]["further"]
    assert "copy" not in rows[2]["further"]


# Command line


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    (tmp_path / "t.json").write_text(json.dumps(GOOD))
    soundfile.write(tmp_path / "in.wav", sweep().T, RATE, subtype="PCM_24")
    return tmp_path


def test_response_verb(folder):
    done = mivlo("response", "t.json", "--at", "90,431,1000", "--rate", "44100", "--json", cwd=folder)
    told = json.loads(done.stdout)
    assert told["hz"] == [90.0, 431.0, 1000.0]
    assert told["db"][0] == pytest.approx(-3.01, abs=0.05)
    assert told["db"][1] == pytest.approx(-6.0, abs=0.05)
    assert all(-180 < degrees <= 180 for degrees in told["phase_deg"])
    sections = [s for move in parse_treatment(json.dumps(GOOD), name="t").moves for s in move.sections(44_100)]
    h = frequency_response(sections, np.array(told["hz"]), sample_rate_hz=44_100)
    assert told["phase_deg"] == pytest.approx(np.degrees(np.angle(h)).tolist())


def test_measure_verb(folder):
    told = json.loads(mivlo("measure", "in.wav", "--json", cwd=folder).stdout)
    assert (told["rate"], told["channels"], told["seconds"]) == (RATE, 2, 1.0)
    assert told["true_peak_dbtp"] == pytest.approx(-6.02, abs=0.1)
    soundfile.write(folder / "silence.wav", np.zeros(RATE), RATE)
    told = json.loads(mivlo("measure", "silence.wav", "--json", cwd=folder).stdout)
    assert told["integrated_lufs"] is None


def test_apply_verb_keeps_the_file_and_changes_the_sound(folder):
    before = (folder / "in.wav").read_bytes()
    assert mivlo("apply", "t.json", "in.wav", "out.wav", cwd=folder).returncode == 0
    info = soundfile.info(folder / "out.wav")
    assert (info.samplerate, info.channels, info.frames, info.subtype) == (RATE, 2, RATE, "PCM_24")
    assert (folder / "in.wav").read_bytes() == before
    x, y = (soundfile.read(folder / name)[0][:, 0] for name in ("in.wav", "out.wav"))
    h = np.fft.rfft(y)[500:2_500] / np.fft.rfft(x)[500:2_500]
    sections = [s for move in parse_treatment(json.dumps(GOOD), name="t").moves for s in move.sections(RATE)]
    wanted = frequency_response(sections, np.arange(500.0, 2_500.0), sample_rate_hz=RATE)
    assert np.max(np.abs(20 * np.log10(np.abs(h / wanted)))) < 0.1


@pytest.mark.parametrize(
    "arguments",
    [
        ("apply", "missing.json", "in.wav", "out.wav"), ("apply", "t.json", "missing.wav", "out.wav"),
        ("apply", "t.json", "t.json", "out.wav"), ("apply", "t.json", "in.wav", "in.wav"),
        ("apply", "t.json", "in.wav", "out.mp3"), ("apply", "bad.json", "in.wav", "out.wav"),
        ("apply", "t.json", "in.wav", "no/where/out.wav"), ("response", "t.json", "--at", "100,x"),
        ("response", "t.json", "--at", "30000"), ("response", "bad.json", "--at", "100"), ("measure", "t.json"),
        ("measure", "."), ("response", "t.json", "--at", "100", "--rate", "nan"),
    ],
)  # fmt: skip
def test_bad_input_is_one_line_and_status_2(folder, arguments):
    (folder / "bad.json").write_text(json.dumps(changed(q=1e9)))
    there = {path: path.read_bytes() for path in folder.iterdir()}
    done = mivlo(*arguments, cwd=folder)
    assert done.returncode == 2
    assert len(done.stderr.strip().splitlines()) == 1
    assert done.stderr.startswith("mivlo: ")
    assert done.stdout == ""
    assert {path: path.read_bytes() for path in folder.iterdir()} == there
