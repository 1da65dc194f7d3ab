"""Reading and writing audio files; the only place that turns (frames, channels) into (channels, frames)."""

import hashlib
import os
import shutil
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

import numpy as np
import soundfile
import soxr

from mivlo.core.errors import AudioFileError
from mivlo.core.metadata.containers import put_into
from mivlo.core.metadata.parts import Carried
from mivlo.core.riff import LONG_WAVES, BareLongWave
from mivlo.core.truncation import missing_bytes, unreported_frames
from mivlo.core.units import Array

__all__ = [
    "BITS_OF",
    "AudioFileInfo",
    "FileSource",
    "ImportLimits",
    "OutputFormat",
    "inspect_audio",
    "open_checked",
    "opened",
    "read_blocks",
    "resample_to_store",
    "sha256_of",
    "wave_format",
    "write_blocks",
    "write_store",
]

BLOCK_FRAMES = 1 << 16
MOST_LEVEL = 1e5  # 100 dB over full scale: no sound is
OutputFormat = Literal["wav-24", "wav-float", "flac-24"]
_SOUNDFILE_FORMATS = {"wav-24": ("WAV", "PCM_24"), "wav-float": ("WAV", "FLOAT"), "flac-24": ("FLAC", "PCM_24")}
MOST_WAVE_BYTES = (4 << 30) - (1 << 20)  # a WAV file counts its bytes in 32 bits; the rest is for what it carries
BITS_OF: dict[OutputFormat, int] = {"wav-24": 24, "wav-float": 32, "flac-24": 24}
INT24_SCALE = float(1 << 23)
DITHER_SEED = 20_240_229  # any fixed number: the same treatment gives the same file


@dataclass(frozen=True, slots=True)
class ImportLimits:
    """What is taken in; messages name these figures."""

    max_seconds: float = 3 * 3_600.0
    max_bytes: int = 16 << 30
    max_channels: int = 2
    min_rate_hz: int = 8_000
    max_rate_hz: int = 192_000


@dataclass(frozen=True, slots=True)
class AudioFileInfo:
    """What a file is."""

    format: str
    subtype: str
    sample_rate_hz: int
    n_channels: int
    n_frames: int


def opened(path: Path) -> soundfile.SoundFile:
    with path.open("rb") as file:
        is_long = file.read(4) in LONG_WAVES
    return soundfile.SoundFile(BareLongWave(path) if is_long else path)


def inspect_audio(path: Path, *, limits: ImportLimits, name: str) -> AudioFileInfo:
    """Return what a file is, once it is sure that it can be taken in whole.

    Parameters
    ----------
    path : the file
    name : what the user calls it, for messages

    Raises
    ------
    AudioFileError: empty, truncated, not audio, over a limit
    """
    size = path.stat().st_size
    if size == 0:
        raise AudioFileError(f"{name}: the file is empty (0 bytes)")
    if size > limits.max_bytes:
        raise AudioFileError(f"{name}: {size} bytes, but at most {limits.max_bytes} are taken")
    try:
        with opened(path) as file:
            info = AudioFileInfo(file.format, file.subtype, file.samplerate, file.channels, file.frames)
    except (soundfile.LibsndfileError, RuntimeError, TypeError) as error:
        reason = str(getattr(error, "error_string", error)).strip().rstrip(".")
        raise AudioFileError(f"{name}: cannot be read as audio ({reason})") from error
    missing = missing_bytes(path)
    if missing:
        raise AudioFileError(f"{name}: truncated, {missing} bytes of its sound are missing at the end")
    n_more = unreported_frames(path)
    if n_more:
        raise AudioFileError(f"{name}: its head tells {info.n_frames} samples, but it holds {n_more} more")
    if info.n_frames <= 0:
        raise AudioFileError(f"{name}: holds no sound (0 samples)")
    if info.n_channels > limits.max_channels:
        raise AudioFileError(f"{name}: {info.n_channels} channels, but at most {limits.max_channels} are taken")
    if not limits.min_rate_hz <= info.sample_rate_hz <= limits.max_rate_hz:
        raise AudioFileError(
            f"{name}: sampling rate {info.sample_rate_hz} Hz must be from {limits.min_rate_hz} "
            f"to {limits.max_rate_hz} Hz"
        )
    seconds = info.n_frames / info.sample_rate_hz
    if seconds > limits.max_seconds:
        raise AudioFileError(f"{name}: {seconds:.0f} s long, but at most {limits.max_seconds:.0f} s are taken")
    return info


def read_blocks(path: Path, *, name: str, precision: Literal["float32", "float64"] = "float64") -> Iterator[Array]:
    """Yield (channels, n) blocks of a file that was inspected.

    Raises
    ------
    AudioFileError: damaged data, fewer samples than promised, NaN or infinite samples
    """
    done = 0
    try:
        with opened(path) as file:
            expected = file.frames
            while True:
                block = file.read(BLOCK_FRAMES, dtype=precision, always_2d=True)
                if not len(block):
                    break
                if not np.all(np.isfinite(block)):
                    bad = done + int(np.argmin(np.all(np.isfinite(block), axis=1)))
                    raise AudioFileError(f"{name}: sample {bad} is not a number or infinite")
                if np.abs(block).max() > MOST_LEVEL:
                    bad = done + int(np.argmax(np.abs(block).max(axis=1)))
                    problem = f"sample {bad} is {np.abs(block).max():.3g}, but full scale is 1"
                    raise AudioFileError(f"{name}: {problem}: it is damaged, or written at another scale")
                done += len(block)
                yield np.ascontiguousarray(block.T)
    except (soundfile.LibsndfileError, RuntimeError) as error:
        raise AudioFileError(f"{name}: damaged after {done} samples ({error})") from error
    if done != expected:
        raise AudioFileError(f"{name}: truncated, {done} of {expected} samples could be read")


def open_checked(path: Path, *, limits: ImportLimits, name: str) -> "tuple[AudioFileInfo, FileSource]":
    """Return what a file is, and its samples to be read as they are needed, once all of them were seen to be sound.

    Raises
    ------
    AudioFileError: as `inspect_audio` and `read_blocks`
    """
    info = inspect_audio(path, limits=limits, name=name)
    for _ in read_blocks(path, name=name):
        pass
    return info, FileSource(path)


def resample_to_store(path: Path, target: Path, *, info: AudioFileInfo, rate_hz: int, name: str) -> int:
    """Write a file's samples at another rate as a memory-mappable float32 array (channels, frames); return its frames.

    Raises
    ------
    AudioFileError: as `read_blocks`

    Source: soxr, very high quality (linear phase); its output is cut or filled to round(frames·ratio).
    """
    n_frames = max(1, round(info.n_frames * rate_hz / info.sample_rate_hz))
    blocks = _resampled(read_blocks(path, name=name), info, rate_hz)
    write_store(target, blocks, n_channels=info.n_channels, n_frames=n_frames)
    return n_frames


def write_store(target: Path, blocks: Iterable[Array], *, n_channels: int, n_frames: int) -> None:
    """Write (channels, n) blocks, cut or filled to n_frames, as a float32 array (channels, frames) on disk.

    Raises
    ------
    OSError: the disk does not hold so much; nothing is left behind
    """
    kind = np.dtype(np.float32)
    head = {"descr": kind.str, "fortran_order": False, "shape": (n_channels, n_frames)}
    # Written at a place, not mapped: mapped pages would count as memory in use, three hours of them as gigabytes.
    with target.open("wb") as file:
        np.lib.format.write_array_header_1_0(file, head)
        first = file.tell()
        try:
            os.posix_fallocate(file.fileno(), 0, first + n_channels * n_frames * kind.itemsize)
        except OSError:
            target.unlink()
            raise
        done = 0
        for block in blocks:
            count = min(block.shape[1], n_frames - done)
            for channel, samples in enumerate(block[:, :count].astype(kind)):
                file.seek(first + (channel * n_frames + done) * kind.itemsize)
                file.write(samples.tobytes())
            done += count


def _resampled(blocks: Iterator[Array], info: AudioFileInfo, rate_hz: int) -> Iterator[Array]:
    if rate_hz == info.sample_rate_hz:
        yield from blocks
        return
    stream = soxr.ResampleStream(info.sample_rate_hz, rate_hz, info.n_channels, dtype="float64", quality=soxr.VHQ)
    for block in blocks:
        yield stream.resample_chunk(np.ascontiguousarray(block.T)).T
    yield stream.resample_chunk(np.zeros((0, info.n_channels)), last=True).T


def wave_format(n_bytes: int) -> Literal["WAV", "RF64"]:
    """Return which of the two holds so many bytes. Raises nothing. Source: EBU Tech 3306 (from memory)."""
    return "RF64" if n_bytes > MOST_WAVE_BYTES else "WAV"


def write_blocks(
    path: Path, blocks: Iterable[Array], *, n_channels: int, sample_rate_hz: int, output: OutputFormat, dither: bool,
    n_frames: int = 0, called: str | None = None, carries: Carried = (),
) -> int:  # fmt: skip
    """Write (channels, n) blocks to a file that appears only when it is whole; return how many samples were clipped.

    Parameters
    ----------
    dither : triangular, of one step of 24 bits each way; left out where samples pass unchanged
    n_frames : how many are coming, where they could be more than a WAV file holds: then it becomes RF64
    called : what messages call the file, where its place has another name
    carries : what stands in the file beside its sound

    Raises
    ------
    AudioFileError: the disk is full or the place cannot be written; nothing is left behind
    """
    file_format, subtype = _SOUNDFILE_FORMATS[output]
    n_bytes = n_frames * n_channels * BITS_OF[output] // 8 + sum(len(one.data) for one in carries)
    if file_format == "WAV":
        file_format = wave_format(n_bytes)
    part = path.with_name(f".{path.name}.part")
    random = np.random.default_rng(DITHER_SEED)
    clipped = 0
    try:
        with soundfile.SoundFile(
            part, "w", samplerate=sample_rate_hz, channels=n_channels, subtype=subtype, format=file_format
        ) as file:
            for block in blocks:
                if subtype == "FLOAT":
                    file.write(block.T.astype(np.float32))
                else:
                    integers, over = _to_int24(block, random if dither else None)
                    clipped += over
                    file.write(integers.T)
        put_into(part, carries)
        with part.open("rb") as done:
            os.fsync(done.fileno())
        part.replace(path)
    except (OSError, soundfile.LibsndfileError, RuntimeError) as error:
        raise AudioFileError(f"{called or path.name}: cannot be written ({_why(error, path.parent)})") from error
    finally:
        part.unlink(missing_ok=True)
    return clipped


def _why(error: Exception, folder: Path) -> str:
    """Return in words why a write failed; what libsndfile knows of one that the system refused is "System error"."""
    if isinstance(error, OSError) and error.strerror:
        return error.strerror
    if "System error" in str(error):
        return f"the disk takes no more of it, {shutil.disk_usage(folder).free / 1e6:.0f} MB are free"
    return str(error)


def _to_int24(block: Array, random: np.random.Generator | None) -> tuple[np.ndarray, int]:
    """Return 24-bit samples in the upper bits of int32, and how many did not fit."""
    scaled = block * INT24_SCALE
    if random is not None:
        scaled = scaled + random.random(block.shape) - random.random(block.shape)
    rounded = np.rint(scaled)
    fits = np.clip(rounded, -INT24_SCALE, INT24_SCALE - 1.0)
    return fits.astype(np.int32) << 8, int(np.count_nonzero(fits != rounded))


def sha256_of(path: Path) -> str:
    """Return the SHA-256 of a file's bytes in hexadecimal."""
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


class FileSource:
    """A `Source` over an imported file at its own rate, read as it is needed."""

    def __init__(self, path: Path) -> None:
        self._file = opened(path)

    @property
    def n_channels(self) -> int:
        return int(self._file.channels)

    @property
    def n_frames(self) -> int:
        return int(self._file.frames)

    @property
    def sample_rate_hz(self) -> int:
        """Return the file's own rate."""
        return int(self._file.samplerate)

    def read(self, start: int, n_frames: int) -> Array:
        out = np.zeros((self.n_channels, n_frames))
        first, last = max(start, 0), min(start + n_frames, self.n_frames)
        if first < last:
            if self._file.tell() != first:
                self._file.seek(first)
            block = self._file.read(last - first, dtype="float64", always_2d=True)
            out[:, first - start : first - start + len(block)] = block.T
        return out

    def close(self) -> None:
        """Close the file."""
        self._file.close()
