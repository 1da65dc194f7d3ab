"""Files of many channels taken apart and two put together: held against what ffmpeg makes of the same files."""

import struct
import subprocess
from pathlib import Path

import numpy as np
import pytest
import soundfile

from mivlo.core.audiofile import ImportLimits
from mivlo.core.metadata.containers import carried_by, put_into
from mivlo.core.metadata.notes import notes_of
from mivlo.core.metadata.parts import Part
from mivlo.core.pairs import name_of_all, pairs_among
from mivlo.core.rechannel import join, split

RATE, FRAMES = 48_000, 70_000  # more than is read at once
NAMES = ("Kick in", "Snare", "Over L", "Over R")
IXML = (
    "<BWFXML><TRACK_LIST><TRACK_COUNT>4</TRACK_COUNT>"
    + "".join(
        f"<TRACK><CHANNEL_INDEX>{at}</CHANNEL_INDEX><NAME>{name}</NAME></TRACK>" for at, name in enumerate(NAMES, 1)
    )
    + "</TRACK_LIST></BWFXML>"
).encode()
BEXT = b"Invented".ljust(338, b"\0") + struct.pack("<Q", 96_000) + b"\0" * 256


def many(path: Path, subtype: str, kind: str = "WAV") -> Path:
    x = 0.3 * np.random.default_rng(3).standard_normal((FRAMES, len(NAMES)))
    soundfile.write(path, x, RATE, subtype=subtype, format=kind)
    if kind == "WAV":
        put_into(path, [Part(b"bext", BEXT), Part(b"iXML", IXML)])
    return path


def samples(path: Path) -> np.ndarray:
    """What ffmpeg, which shares no code with us, reads: (frames, channels) in 64 bits."""
    command = ["ffmpeg", "-v", "error", "-i", str(path), "-f", "f64le", "-"]
    found = np.frombuffer(subprocess.run(command, capture_output=True, check=True).stdout)
    return found.reshape(-1, soundfile.info(path).channels)


@pytest.mark.parametrize(("subtype", "kind"), [("PCM_16", "WAV"), ("PCM_24", "WAV"), ("PCM_32", "WAV"),
                                               ("FLOAT", "WAV"), ("DOUBLE", "WAV"), ("PCM_24", "FLAC")])  # fmt: skip
def test_each_channel_is_the_same_to_the_bit_and_says_what_was_said_of_it(tmp_path, subtype, kind):
    path = many(tmp_path / "mics", subtype, kind)
    whole = samples(path)
    for how, width in (("mono", 1), ("pairs", 2)):
        found = split(path, tmp_path, how, limits=ImportLimits(), name="mics")
        assert np.array_equal(np.concatenate([samples(one) for one, _ in found], axis=1), whole)
        assert all(soundfile.info(one).subtype == subtype for one, _ in found)
        if kind == "WAV":
            said = [notes_of(carried_by(one)) for one, _ in found]
            assert [one.track_names for one in said] == [NAMES[at : at + width] for at in range(0, 4, width)]
            assert {one.time_reference for one in said} == {96_000}
    left, right = (tmp_path / f"mics.{at}" for at in (1, 2))
    split(path, tmp_path, "mono", limits=ImportLimits(), name="mics")
    join(left, right, tmp_path / "joined", limits=ImportLimits(), names=("left", "right"))
    assert np.array_equal(samples(tmp_path / "joined"), whole[:, :2])


@pytest.mark.parametrize(
    ("names", "pairs"),
    [
        (["Piano L.wav", "Piano R.wav"], [(0, 1, "Piano")]),
        (["piano_right.wav", "kick.wav", "piano_left.wav"], [(2, 0, "piano")]),
        (["OHL.wav", "OHR.wav", "Keys (Left) 02.wav", "Keys (Right) 02.wav"], [(0, 1, "OH"), (2, 3, "Keys 02")]),
        (["Vocal.wav", "Vocar.wav", "Bass L.wav", "Bass R.flac", "Left.wav"], []),
        (["L.wav", "R.wav"], [(0, 1, "Stereo")]),
        (["Left L.wav", "Left R.wav", "Right L.wav"], [(0, 2, "L")]),  # no file is in two pairs
    ],
)
def test_left_and_right_are_told_by_their_names(names, pairs):
    found = pairs_among(names)
    assert [(one.left, one.right) for one in found] == [(left, right) for left, right, _ in pairs]
    assert [one.name for one in found] == [name for _, _, name in pairs]


def test_a_sound_whose_channels_are_named_has_a_name():
    assert name_of_all(NAMES[2:]) == "Over"
    assert name_of_all(NAMES[:1]) == "Kick in"
    assert name_of_all(NAMES) == ""
