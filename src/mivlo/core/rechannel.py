"""Files of many channels taken apart, and two of one channel put together, to the bit; what they carry goes with them.

What comes out is WAV (RF64 where that is too small) of the same sample format; of formats that WAV does not know, in
32-bit float.
"""

import re
from collections.abc import Sequence
from contextlib import ExitStack
from dataclasses import replace
from pathlib import Path
from typing import Literal

import numpy as np
import soundfile

from mivlo.core.audiofile import AudioFileInfo, ImportLimits, inspect_audio, opened, read_blocks, wave_format
from mivlo.core.errors import ParameterError
from mivlo.core.metadata.containers import carried_by, put_into
from mivlo.core.metadata.notes import notes_of
from mivlo.core.metadata.parts import Carried, Part

__all__ = ["MOST_CHANNELS", "Split", "join", "split"]

Split = Literal["mono", "pairs"]
MOST_CHANNELS = 64
BLOCK_FRAMES = 1 << 16
# How samples are read, so that what is written again is the same to the bit.
_READ_AS = {"PCM_U8": "int16", "PCM_S8": "int16", "PCM_16": "int16", "PCM_24": "int32", "PCM_32": "int32",
            "FLOAT": "float32", "DOUBLE": "float64"}  # fmt: skip
_BYTES = {"PCM_16": 2, "PCM_24": 3, "PCM_32": 4, "FLOAT": 4, "DOUBLE": 8}
_TRACK = re.compile(rb"\s*<TRACK>.*?</TRACK>", re.DOTALL)
_COUNT = re.compile(rb"(<TRACK_COUNT>)\s*\d+\s*(</)")
_INDEX = re.compile(rb"(<CHANNEL_INDEX>)\s*(\d+)\s*(</)")


def split(path: Path, folder: Path, how: Split, *, limits: ImportLimits, name: str) -> list[tuple[Path, str]]:
    """Write each channel of a file, or each two of them, into a file of its own; return where, and the end of its name.

    Raises
    ------
    AudioFileError: what cannot be taken in
    OSError: a full disk; nothing is left behind
    """
    info = inspect_audio(path, limits=replace(limits, max_channels=MOST_CHANNELS), name=name)
    width = 1 if how == "mono" else 2
    parts = [range(at, min(at + width, info.n_channels)) for at in range(0, info.n_channels, width)]
    targets = [folder / f"{path.name}.{part.start + 1}" for part in parts]
    carries = carried_by(path)
    try:
        for _ in read_blocks(path, name=name):
            pass  # seen to be sound before anything is written
        with ExitStack() as stack:
            files = [
                stack.enter_context(_written(target, info, len(part), carries))
                for target, part in zip(targets, parts, strict=True)
            ]
            source = stack.enter_context(opened(path))
            while len(block := source.read(BLOCK_FRAMES, dtype=_read_as(info), always_2d=True)):
                for file, part in zip(files, parts, strict=True):
                    file.write(block[:, part.start : part.stop])
        for target, part in zip(targets, parts, strict=True):
            put_into(target, [_of_channels(one, part) for one in carries])
    except BaseException:
        for target in targets:
            target.unlink(missing_ok=True)
        raise
    return [(target, "+".join(str(one + 1) for one in part)) for target, part in zip(targets, parts, strict=True)]


def join(left: Path, right: Path, target: Path, *, limits: ImportLimits, names: Sequence[str]) -> None:
    """Write two files of one channel as one stereo file; the shorter is filled with silence.

    Raises
    ------
    AudioFileError: what cannot be taken in
    ParameterError: files of more channels, of different rates, or that say that they begin at different times
    OSError: a full disk; nothing is left behind
    """
    infos = [inspect_audio(one, limits=limits, name=name) for one, name in zip((left, right), names, strict=True)]
    if any(info.n_channels != 1 for info in infos):
        wide = next(name for name, info in zip(names, infos, strict=True) if info.n_channels != 1)
        raise ParameterError(f"{wide}: has more than one channel: only mono files are put together")
    if len({info.sample_rate_hz for info in infos}) > 1:
        rates = " and ".join(f"{info.sample_rate_hz} Hz" for info in infos)
        raise ParameterError(f"{names[0]} and {names[1]} have {rates}: bring them to one rate, or keep them apart")
    times = [notes_of(carried_by(one)).time_reference for one in (left, right)]
    if None not in times and times[0] != times[1]:
        raise ParameterError(
            f"{names[0]} and {names[1]} begin at different times by their time references: keep them apart"
        )
    finer = max(infos, key=lambda info: (_read_as(info) == "float64", _read_as(info)[:5] == "float", _width(info)))
    longest = replace(finer, n_frames=max(info.n_frames for info in infos))
    carries = carried_by(left)
    try:
        for one, name in zip((left, right), names, strict=True):
            for _ in read_blocks(one, name=name):
                pass
        with ExitStack() as stack:
            files = [stack.enter_context(opened(one)) for one in (left, right)]
            out = stack.enter_context(_written(target, longest, 2, carries))
            for at in range(0, longest.n_frames, BLOCK_FRAMES):
                n = min(BLOCK_FRAMES, longest.n_frames - at)
                out.write(np.stack([_next(file, n, _read_as(longest)) for file in files], axis=1))
        put_into(target, carries)
    except BaseException:
        target.unlink(missing_ok=True)
        raise


def _next(file: soundfile.SoundFile, n_frames: int, kind: str) -> np.ndarray:
    got = file.read(n_frames, dtype=kind)
    return np.concatenate([got, np.zeros(n_frames - len(got), dtype=got.dtype)])


def _read_as(info: AudioFileInfo) -> str:
    return _READ_AS.get(info.subtype, "float32")


def _subtype(info: AudioFileInfo) -> str:
    kind = _read_as(info)
    return info.subtype if info.subtype in _BYTES else {"int16": "PCM_16"}.get(kind, "FLOAT")


def _width(info: AudioFileInfo) -> int:
    return _BYTES[_subtype(info)]


def _written(path: Path, info: AudioFileInfo, n_channels: int, carries: Carried) -> soundfile.SoundFile:
    n_bytes = info.n_frames * n_channels * _width(info) + sum(len(one.data) for one in carries)
    kind = wave_format(n_bytes)
    return soundfile.SoundFile(path, "w", info.sample_rate_hz, n_channels, _subtype(info), format=kind)


def _of_channels(part: Part, channels: range) -> Part:
    """Return a part of a file as it is true of some of its channels: of iXML, the tracks of these alone."""
    if part.name != b"iXML":
        return part
    tracks = list(_TRACK.finditer(part.data))
    kept = [
        (at, one)
        for at, one in enumerate(tracks)
        if (int(found[2]) - 1 if (found := _INDEX.search(one[0])) else at) in channels
    ]
    if not tracks or not kept:
        return part
    numbered = enumerate(kept, start=1)
    written = b"".join(_INDEX.sub(rb"\g<1>%d\g<3>" % n, one[0]) for n, (_, one) in numbered)
    data = part.data[: tracks[0].start()] + written + part.data[tracks[-1].end() :]
    return replace(part, data=_COUNT.sub(lambda found: found[1] + b"%d" % len(kept) + found[2], data))
