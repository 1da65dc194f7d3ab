"""Whatever bytes a file holds, it comes in whole or is refused by name: files of every kind, damaged at random."""

import struct
import warnings
from pathlib import Path

import numpy as np
import pytest
import soundfile
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from mivlo.core.audiofile import ImportLimits, inspect_audio, resample_to_store
from mivlo.core.errors import AudioFileError
from mivlo.core.truncation import missing_bytes

RATE, FRAMES = 48_000, 3_000
KINDS = {
    "WAV": "PCM_16",
    "RF64": "PCM_24",
    "AIFF": "PCM_24",
    "FLAC": "PCM_16",
    "W64": "FLOAT",
    "CAF": "PCM_16",
    "OGG": "VORBIS",
    "AU": "PCM_24",
}
CUT = {"opus": ("OGG", "OPUS"), **{kind: (kind, subtype) for kind, subtype in KINDS.items()}}
# Of the container's head more is damaged than of the sound: there lie the lengths.
HEAD_BYTES = 120
SEVERAL = settings(
    max_examples=150, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture], derandomize=True
)


@pytest.fixture(scope="module")
def whole(tmp_path_factory) -> dict[str, bytes]:
    folder = tmp_path_factory.mktemp("whole")
    x = 0.4 * np.sin(2 * np.pi * 440 * np.arange(FRAMES) / RATE)
    for kind, subtype in KINDS.items():
        soundfile.write(folder / kind, np.stack([x, -x], axis=1), RATE, format=kind, subtype=subtype)
    return {kind: (folder / kind).read_bytes() for kind in KINDS}


def taken_in(data: bytes, folder: Path) -> np.ndarray | str:
    """Return what is stored of a file's bytes, or why it was refused."""
    path, target = folder / "some.wav", folder / "session.npy"
    path.write_bytes(data)
    target.unlink(missing_ok=True)
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("error")
            info = inspect_audio(path, limits=ImportLimits(max_seconds=2.0), name="some.wav")
            n_frames = resample_to_store(path, target, info=info, rate_hz=RATE, name="some.wav")
    except AudioFileError as refused:
        return str(refused)
    stored = np.load(target)
    assert stored.shape == (info.n_channels, n_frames)
    assert np.isfinite(stored).all()
    return stored


@SEVERAL
@given(data=st.data())
def test_a_damaged_file_is_refused_by_name_or_comes_in_as_numbers(whole, tmp_path, data):
    kind = data.draw(st.sampled_from(sorted(KINDS)))
    content = bytearray(whole[kind])
    for _ in range(data.draw(st.integers(1, 6))):
        reach = data.draw(st.sampled_from([HEAD_BYTES, len(content) - 1]))
        content[data.draw(st.integers(0, min(reach, len(content) - 1)))] = data.draw(st.integers(0, 255))
    end = data.draw(st.sampled_from([len(content), data.draw(st.integers(0, len(content)))]))
    result = taken_in(bytes(content[:end]), tmp_path)
    if isinstance(result, str):
        assert result.startswith("some.wav: ")
        assert "Traceback" not in result


PIECES = st.one_of(st.sampled_from([b"ds64", b"data", b"SSND", b"fmt ", b"\xff" * 4, b"\0" * 4]), st.binary(max_size=9))


@SEVERAL
@given(
    head=st.sampled_from([b"RIFF", b"RF64", b"BW64", b"FORM"]), form=st.sampled_from([b"WAVE", b"AIFF", b"AIFC"]),
    rest=st.lists(PIECES).map(b"".join),
)  # fmt: skip
def test_the_walk_over_chunks_ends_whatever_they_say(tmp_path, head, form, rest):
    path = tmp_path / "chunks"
    path.write_bytes(head + b"\0\0\0\0" + form + rest)
    assert missing_bytes(path) >= 0


def test_a_long_length_chunk_that_is_cut_off_is_told_as_missing(tmp_path):
    # RF64 with a ds64 chunk (EBU Tech 3306, from memory) that ends after four of its bytes.
    path = tmp_path / "cut.rf64"
    path.write_bytes(b"RF64" + struct.pack("<I", 0xFFFFFFFF) + b"WAVEds64" + struct.pack("<I", 28) + b"\0\0\0\0")
    assert missing_bytes(path) > 0
    with pytest.raises(AudioFileError, match=r"cut\.rf64: "):
        inspect_audio(path, limits=ImportLimits(), name="cut.rf64")


@pytest.mark.parametrize("kind", ["WAV", "RF64", "AIFF"])
def test_every_byte_that_is_missing_is_counted(whole, tmp_path, kind):
    path = tmp_path / "short"
    for gone in (1, 7, 1_000, len(whole[kind]) // 2):
        path.write_bytes(whole[kind][:-gone])
        assert missing_bytes(path) == gone
        assert f"{gone} bytes of its sound are missing" in taken_in(path.read_bytes(), tmp_path)


@pytest.mark.parametrize(
    "extra", [b"LIST" + struct.pack("<I", 4) + b"abcd", b"id3 " + struct.pack("<I", 5) + b"hello\0"]
)
def test_what_other_programs_write_around_the_sound_does_no_harm(whole, tmp_path, extra):
    # Chunks before the sound, one of odd length with its pad byte, and some after it.
    data = whole["WAV"]
    at = data.index(b"data")
    inside = data[12:at] + extra + data[at:] + extra
    stored = taken_in(b"RIFF" + struct.pack("<I", 4 + len(inside)) + b"WAVE" + inside, tmp_path)
    assert isinstance(stored, np.ndarray)
    assert np.array_equal(stored, taken_in(data, tmp_path))


@pytest.mark.parametrize("kind", sorted(CUT))
def test_a_file_that_is_cut_off_anywhere_is_refused(tmp_path, kind):
    container, subtype = CUT[kind]
    x = 0.4 * np.random.default_rng(1).standard_normal((RATE // 2, 2))
    soundfile.write(tmp_path / "whole", x, RATE, format=container, subtype=subtype)
    data = (tmp_path / "whole").read_bytes()
    assert isinstance(taken_in(data, tmp_path), np.ndarray)
    for part in (0.05, 0.3, 0.5, 0.75, 0.9, 0.99):
        told = taken_in(data[: int(part * len(data))], tmp_path)
        assert isinstance(told, str), (kind, part)
    if container == "OGG":  # whole pages, but not the last one
        assert "bytes of its sound are missing" in taken_in(data[: data.rindex(b"OggS")], tmp_path)


def test_a_flac_file_whose_head_tells_too_few_frames_is_refused(tmp_path):
    x = 0.4 * np.random.default_rng(1).standard_normal((30_000, 1))
    soundfile.write(tmp_path / "whole.flac", x, RATE, subtype="PCM_16")
    data = bytearray((tmp_path / "whole.flac").read_bytes())
    packed = int.from_bytes(data[18:26], "big")
    data[18:26] = (packed - 10_000).to_bytes(8, "big")
    assert taken_in(bytes(data), tmp_path) == "some.wav: its head tells 20000 samples, but it holds 10000 more"


@pytest.mark.parametrize(("level", "subtype"), [(1e20, "FLOAT"), (1e39, "DOUBLE"), (1e200, "DOUBLE"), (-2e5, "FLOAT")])
def test_absurd_samples_are_refused_by_their_place(tmp_path, level, subtype):
    x = np.zeros(FRAMES)
    x[1_234] = level
    soundfile.write(tmp_path / "loud.wav", x, RATE, subtype=subtype)
    told = taken_in((tmp_path / "loud.wav").read_bytes(), tmp_path)
    assert isinstance(told, str)
    assert told.startswith("some.wav: sample 1234 is ")
