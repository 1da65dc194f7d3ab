"""What files carry beside their sound, on files written byte by byte, and as another program reads what we write."""

import json
import struct
import subprocess
from pathlib import Path

import numpy as np
import pytest
import soundfile
from hypothesis import given, settings
from hypothesis import strategies as st
from typer.testing import CliRunner

from mivlo.cli import app
from mivlo.core.metadata.containers import carried_by, put_into
from mivlo.core.metadata.notes import Marker, Notes, notes_of
from mivlo.core.metadata.parts import Part
from mivlo.core.metadata.rendered import as_rendered

RATE, FRAMES = 48_000, 24_000
TIME = 48_000 * 3_600 + 12_345  # one o'clock, and a bit
UNKNOWN = b"whatever\x00\xff "


def bext(version: int = 2, history: bytes = b"A=PCM,F=48000,W=24\r\n") -> bytes:
    """EBU Tech 3285: 256 + 32 + 32 bytes of text, date, time, 8 bytes of time, version, UMID, loudness, reserved."""
    head = b"Invented drum, take 3".ljust(256, b"\0") + b"Mivlo tests".ljust(32, b"\0") + b"REF1".ljust(32, b"\0")
    head += b"2026-11-30" + b"01:00:00" + struct.pack("<Q", TIME) + struct.pack("<H", version) + bytes(range(64))
    return head + struct.pack("<5h", -2300, 700, -100, -1800, -2000) + bytes(180) + history


IXML = (
    b'<?xml version="1.0"?><BWFXML><FILE_UID>OLD0001</FILE_UID><SPEED><TIMESTAMP_SAMPLES_SINCE_MIDNIGHT_HI>0'
    b"</TIMESTAMP_SAMPLES_SINCE_MIDNIGHT_HI><TIMESTAMP_SAMPLES_SINCE_MIDNIGHT_LO>%d"
    b"</TIMESTAMP_SAMPLES_SINCE_MIDNIGHT_LO></SPEED><TRACK_LIST><TRACK_COUNT>1</TRACK_COUNT><TRACK>"
    b"<CHANNEL_INDEX>1</CHANNEL_INDEX><NAME>Kick in</NAME></TRACK></TRACK_LIST></BWFXML>" % TIME
)


def cue(*points: tuple[int, int]) -> bytes:
    each = (struct.pack("<II4sIII", number, frame, b"data", 0, 0, frame) for number, frame in points)
    return struct.pack("<I", len(points)) + b"".join(each)


def adtl(*labels: tuple[int, bytes]) -> bytes:
    out = b"adtl"
    for number, text in labels:
        data = struct.pack("<I", number) + text + b"\0"
        out += struct.pack("<4sI", b"labl", len(data)) + data + b"\0" * (len(data) % 2)
    return out


POINTS = cue((1, 100), (2, 9_000), (3, 20_000))
LABELS = adtl((1, b"Verse"), (2, b"Chorus!"), (3, b"End"))
PARTS = [
    (b"bext", bext(), True), (b"iXML", IXML, True), (b"zzzz", UNKNOWN, True), (b"cue ", POINTS, False),
    (b"LIST", LABELS, False),
]  # fmt: skip


def chunk(name: bytes, data: bytes) -> bytes:
    return struct.pack("<4sI", name, len(data)) + data + b"\0" * (len(data) % 2)


def written(path: Path, head: bytes = b"RIFF", channels: int = 1) -> Path:
    """A WAV, RF64 or BW64 file, byte by byte."""
    x = (0.2 * np.random.default_rng(2).standard_normal((FRAMES, channels)) * 2**15).astype("<i2").tobytes()
    fmt = chunk(b"fmt ", struct.pack("<HHIIHH", 1, channels, RATE, RATE * 2 * channels, 2 * channels, 16))
    before = b"".join(chunk(name, data) for name, data, is_before in PARTS if is_before)
    after = b"".join(chunk(name, data) for name, data, is_before in PARTS if not is_before)
    if head == b"RIFF":
        body = b"WAVE" + fmt + before + chunk(b"data", x) + after
        path.write_bytes(head + struct.pack("<I", len(body)) + body)
        return path
    sound = struct.pack("<4sI", b"data", 0xFFFFFFFF) + x
    rest = fmt + before + sound + after
    ds64 = chunk(b"ds64", struct.pack("<QQQI", 4 + 36 + len(rest), len(x), FRAMES, 0))
    path.write_bytes(head + struct.pack("<I", 0xFFFFFFFF) + b"WAVE" + ds64 + rest)
    return path


def probed(path: Path) -> dict:
    command = ["ffprobe", "-v", "error", "-of", "json", "-show_format", "-show_chapters", str(path)]
    return json.loads(subprocess.run(command, capture_output=True, check=True).stdout)


@pytest.mark.parametrize("head", [b"RIFF", b"RF64", b"BW64"])
def test_what_a_file_says_is_read(tmp_path, head):
    parts = carried_by(written(tmp_path / "in.wav", head))
    assert [(part.name, part.data, part.is_before_sound) for part in parts] == PARTS
    markers = (Marker(100, "Verse"), Marker(9_000, "Chorus!"), Marker(20_000, "End"))
    assert notes_of(parts) == Notes(TIME, "Invented drum, take 3", ("Kick in",), markers)
    # ffmpeg, which shares no code with us, reads the same time.
    assert probed(tmp_path / "in.wav")["format"]["tags"]["time_reference"] == str(TIME)


@pytest.mark.parametrize("head", [b"RIFF", b"RF64", b"BW64"])
@pytest.mark.parametrize("suffix", [".wav", ".flac"])
def test_applied_to_a_file_all_that_stays_true_stays_byte_for_byte(tmp_path, head, suffix):
    source, target = written(tmp_path / "in.wav", head), tmp_path / f"out{suffix}"
    (tmp_path / "t.json").write_text('{"mivlo_treatment": 1, "moves": [{"kind": "bell", "hz": 900, "gain_db": -6}]}')
    done = CliRunner().invoke(app, ["apply", str(tmp_path / "t.json"), str(source), str(target)])
    assert done.exit_code == 0, done.stderr
    parts = {part.name: part.data for part in carried_by(target) if part.is_chunk}
    assert parts[b"zzzz"] == UNKNOWN
    assert (parts[b"cue "], parts[b"LIST"]) == (POINTS, LABELS)
    assert parts[b"bext"][:412] == bext()[:412]
    assert struct.unpack_from("<5H", parts[b"bext"], 412) == (0x7FFF,) * 5
    assert parts[b"bext"][602:].startswith(b"A=PCM,F=48000,W=24\r\nA=PCM,F=48000,W=24,M=mono,T=Mivlo\r\n")
    assert parts[b"iXML"] != IXML
    assert b"OLD0001" not in parts[b"iXML"]
    assert parts[b"iXML"].replace(parts[b"iXML"].split(b"<FILE_UID>")[1].split(b"<")[0], b"OLD0001") == IXML
    assert soundfile.info(target).frames == FRAMES
    if suffix == ".wav":
        told = probed(target)
        assert told["format"]["tags"]["time_reference"] == str(TIME)
        assert [one["tags"]["title"] for one in told["chapters"]] == ["Verse", "Chorus!", "End"]
        assert soundfile.read(target)[0].shape == (FRAMES,)
        ahead = [name for name, _, is_before in PARTS if is_before]
        order = target.read_bytes()
        assert all(order.index(name) < order.index(b"data") for name in ahead)


def test_of_a_loop_times_and_marks_move_with_its_start(tmp_path):
    parts = carried_by(written(tmp_path / "in.wav"))
    moved = as_rendered(parts, start_frame=5_000, n_frames=6_000, sample_rate_hz=RATE, n_channels=1, bits=24)
    notes = notes_of(moved)
    assert notes.time_reference == TIME + 5_000
    assert notes.markers == (Marker(4_000, "Chorus!"),)
    told = {part.name: part.data for part in moved}
    assert b"<TIMESTAMP_SAMPLES_SINCE_MIDNIGHT_LO>%d<" % (TIME + 5_000) in told[b"iXML"]
    assert told[b"LIST"] == adtl((2, b"Chorus!"))
    assert told[b"zzzz"] == UNKNOWN
    first = as_rendered(
        [Part(b"bext", bext(version=1))], start_frame=0, n_frames=9, sample_rate_hz=RATE, n_channels=2, bits=32
    )
    assert first[0].data[:602] == bext(version=1)[:602]  # before its second version it says nothing of loudness


@pytest.mark.parametrize("codec", ["libvorbis", "libopus"])
def test_comments_of_an_ogg_file_are_read_and_stand_in_what_is_made_of_it(tmp_path, codec):
    soundfile.write(tmp_path / "in.wav", 0.1 * np.random.default_rng(1).standard_normal(RATE), RATE)
    told = {"title": "Invented fiddle", "description": "take 3", "time_reference": str(TIME), "long": "x" * 70_000}
    said = [one for name, value in told.items() for one in ("-metadata", f"{name}={value}")]
    made = tmp_path / "in.ogg"
    command = ["ffmpeg", "-v", "error", "-i", tmp_path / "in.wav", "-c:a", codec, *said, made]
    subprocess.run(command, check=True)
    notes = notes_of(carried_by(made))
    assert (notes.track_names, notes.description, notes.time_reference) == (("Invented fiddle",), "take 3", TIME)
    (tmp_path / "t.json").write_text('{"mivlo_treatment": 1, "moves": []}')
    done = CliRunner().invoke(app, ["apply", *(str(tmp_path / one) for one in ("t.json", "in.ogg", "out.flac"))])
    assert done.exit_code == 0, done.stderr
    assert set(told.values()) <= set(probed(tmp_path / "out.flac")["format"]["tags"].values())
    for cut in (28, 60, 400, 30_000):  # what ends within its pages says nothing
        (tmp_path / "cut.ogg").write_bytes(made.read_bytes()[:cut])
        assert carried_by(tmp_path / "cut.ogg") == []


def test_comments_of_a_flac_file_are_kept_and_read(tmp_path):
    written(tmp_path / "in.wav")
    command = ["ffmpeg", "-v", "error", "-y", "-i", tmp_path / "in.wav", "-metadata", "title=Kick in", "-metadata"]
    subprocess.run([*command, f"time_reference={TIME}", tmp_path / "in.flac"], check=True)
    notes = notes_of(carried_by(tmp_path / "in.flac"))
    assert (notes.time_reference, notes.track_names) == (TIME, ("Kick in",))
    (tmp_path / "t.json").write_text('{"mivlo_treatment": 1, "moves": []}')
    done = CliRunner().invoke(app, ["apply", *(str(tmp_path / one) for one in ("t.json", "in.flac", "out.flac"))])
    assert done.exit_code == 0, done.stderr
    assert list(carried_by(tmp_path / "out.flac")) == list(carried_by(tmp_path / "in.flac"))
    tags = {name.lower(): value for name, value in probed(tmp_path / "out.flac")["format"]["tags"].items()}
    assert tags["title"] == "Kick in"
    before, after = (soundfile.read(tmp_path / one, dtype="int32")[0] for one in ("in.flac", "out.flac"))
    assert np.array_equal(before, after)


def test_comments_are_said_in_chunks_where_the_file_is_wav(tmp_path):
    """A loop of a FLAC file, written as WAV: ffprobe reads the same words there, and when it begins."""
    written(tmp_path / "in.wav")
    words = {"title": "K\u00f6nig", "artist": "Nobody", "description": "Take 3"}
    command = ["ffmpeg", "-v", "error", "-y", "-i", tmp_path / "in.wav", "-map_metadata", "-1", "-metadata"]
    command += [f"time_reference={TIME}", *(one for pair in words.items() for one in ("-metadata", "=".join(pair)))]
    subprocess.run([*command, tmp_path / "in.flac"], check=True)
    facts = {"start_frame": 1_000, "n_frames": 4_000, "sample_rate_hz": RATE, "n_channels": 1, "bits": 16}
    parts = as_rendered(carried_by(tmp_path / "in.flac"), **facts)
    assert notes_of(parts).time_reference == TIME + 1_000
    assert notes_of(as_rendered(carried_by(tmp_path / "in.flac"), **facts | {"start_frame": 0})).time_reference == TIME
    soundfile.write(tmp_path / "out.wav", np.zeros(4_000), RATE)
    put_into(tmp_path / "out.wav", parts)
    tags = probed(tmp_path / "out.wav")["format"]["tags"]
    assert (tags["title"], tags["artist"], int(tags["time_reference"])) == ("K\u00f6nig", "Nobody", TIME + 1_000)
    assert notes_of(carried_by(tmp_path / "out.wav")).description == "Take 3"
    assert soundfile.info(tmp_path / "out.wav").frames == 4_000


@settings(max_examples=120, deadline=None, derandomize=True)
@given(st.data())
def test_damaged_parts_say_nothing_and_break_nothing(data):
    name = data.draw(st.sampled_from([b"bext", b"iXML", b"cue ", b"LIST", bytes([4])]))
    whole = {b"bext": bext(), b"iXML": IXML, b"cue ": POINTS, b"LIST": LABELS, bytes([4]): b"\4\0\0\0test\1\0\0\0"}[
        name
    ]
    damaged = bytearray(whole[: data.draw(st.integers(0, len(whole)))])
    for _ in range(data.draw(st.integers(0, 6))):
        if damaged:
            damaged[data.draw(st.integers(0, len(damaged) - 1))] = data.draw(st.integers(0, 255))
    parts = [Part(name, bytes(damaged)), Part(b"LIST", LABELS)]
    notes_of(parts)
    as_rendered(parts, start_frame=500, n_frames=1_000, sample_rate_hz=RATE, n_channels=1, bits=24)


def test_markup_that_declares_entities_is_read_by_nobody():
    bomb = b'<!DOCTYPE x [<!ENTITY a "aaaa">]><BWFXML><TRACK_LIST><TRACK><NAME>&a;</NAME></TRACK></TRACK_LIST></BWFXML>'
    assert notes_of([Part(b"iXML", bomb)]) == Notes()


def test_a_full_disk_leaves_the_file_as_it_was(tmp_path, monkeypatch):
    path = written(tmp_path / "in.wav")
    before = path.read_bytes()

    def full(_: int) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr("os.fsync", full)
    with pytest.raises(OSError, match="No space"):
        put_into(path, [Part(b"zzzz", UNKNOWN)])
    assert path.read_bytes() == before
    assert [one.name for one in tmp_path.iterdir()] == ["in.wav"]
