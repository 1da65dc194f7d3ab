"""Lists the recordings that banks to be fitted on share with a test bank, whatever they are called there.

    .venv/bin/python bench/finder/shared_recordings.py

A recording counts as shared where stretches of its beginning and of its middle correlate with the other bank almost
perfectly, at any level. What it finds belongs into `without` of that bank (finder/phrases.py).
"""

import io
import struct
import sys
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1]))

import numpy as np
import soundfile
import soxr
from scipy.fft import irfft, rfft

from finder.phrases import FOLDER, FURTHER_BANKS, TEST_BANKS, TRAINING_BANKS, Bank
from mivlo.core.units import Array

RATE = 11_025.0  # of all recordings, so that one of another rate is found as well
STRETCH = 700  # frames that are compared: 63 ms
BLOCK = 1 << 19
ALIKE = 0.98  # of plain tones, as of high notes of an electric piano, any two come near it
LEAST_NORM = 3e3 / 32_768.0  # of a stretch: silence resembles everything
PATCH_FOLDER = Path("/usr/share/midi/freepats")
# Of the sound font format: a sample header's length, the flags of samples in ROM and of compressed ones.
HEADER, IN_ROM, COMPRESSED = 46, 0x8000, 0x10
# Of the patch format: where the first sample is described, and how long each description is.
FIRST_SAMPLE, DESCRIPTION, N_SAMPLES_AT = 129 + 63 + 47, 96, 129 + 63 + 6


@dataclass(frozen=True, slots=True)
class Recording:
    """One recording of a bank: its name there, and (frames,) at 11 025 Hz."""

    name: str
    samples: Array


def recordings_of(bank: Bank) -> list[Recording]:
    """Return what a bank was recorded of, from a sound font or from a folder of patches."""
    if bank.player == "wildmidi":
        return [one for path in sorted(PATCH_FOLDER.glob("*/*.pat")) for one in _of_patch(path)]
    return list(_of_sound_font(FOLDER / bank.file))


def _of_sound_font(path: Path) -> Iterator[Recording]:
    chunks = _chunks(path.read_bytes())
    sound, headers = chunks["smpl"], chunks["shdr"]
    for at in range(0, len(headers) - HEADER, HEADER):
        header = headers[at : at + HEADER]
        name = header[:20].split(b"\0")[0].decode("latin1")
        start, end, _, _, rate = struct.unpack("<5I", header[20:40])
        (kind,) = struct.unpack("<H", header[44:46])
        if kind & IN_ROM or end <= start:
            continue
        if kind & COMPRESSED:
            samples, rate = soundfile.read(io.BytesIO(sound[start:end]))
        else:
            samples = np.frombuffer(sound[2 * start : 2 * end], "<i2") / 32_768.0
        yield Recording(name, np.asarray(soxr.resample(samples, rate, RATE), dtype=np.float32))


def _chunks(data: bytes) -> dict[str, bytes]:
    """Return the innermost chunks of a RIFF file by their names."""
    found: dict[str, bytes] = {}
    at = 12
    while at + 8 <= len(data):
        name, (size,) = data[at : at + 4].decode("latin1"), struct.unpack("<I", data[at + 4 : at + 8])
        if name == "LIST":
            found |= _chunks(data[at : at + 8 + size])
        found[name] = data[at + 8 : at + 8 + size]
        at += 8 + size + size % 2
    return found


def _of_patch(path: Path) -> Iterator[Recording]:
    data = path.read_bytes()
    at = FIRST_SAMPLE
    for _ in range(data[N_SAMPLES_AT]):
        (size,), (rate,) = struct.unpack("<I", data[at + 8 : at + 12]), struct.unpack("<H", data[at + 20 : at + 22])
        width, is_unsigned = (2 if data[at + 55] & 1 else 1), bool(data[at + 55] & 2)
        first = at + DESCRIPTION
        raw = np.frombuffer(data[first : first + size // width * width], f"<{'u' if is_unsigned else 'i'}{width}")
        samples = raw / 2.0 ** (8 * width - 1) - (1.0 if is_unsigned else 0.0)
        at = first + size
        yield Recording(path.name, np.asarray(soxr.resample(samples, rate, RATE), dtype=np.float32))


def shared(ours: list[Recording], theirs: list[Recording]) -> Iterator[tuple[str, str, float]]:
    """Yield (our name, their name, correlation) of recordings of ours that are among theirs."""
    gap = np.zeros(STRETCH, dtype=np.float32)
    row = np.concatenate([part for one in theirs for part in (one.samples, gap)])
    ends = np.cumsum([len(one.samples) + STRETCH for one in theirs])
    energy = np.concatenate([[0.0], np.cumsum(row.astype(np.float64) ** 2)])
    norms = np.maximum(np.sqrt(np.maximum(energy[STRETCH:] - energy[:-STRETCH], 0.0)), LEAST_NORM)
    step = BLOCK - STRETCH
    blocks = [(at, rfft(row[at : at + BLOCK], BLOCK)) for at in range(0, len(row) - STRETCH, step)]
    for one in ours:
        if len(one.samples) < STRETCH:
            continue
        best = [
            max(_likeness(spectrum, norms[at : at + step], stretch, at) for at, spectrum in blocks)
            for stretch in _stretches(one)
        ]
        likeness, place = min(best)
        if likeness >= ALIKE:
            yield one.name, theirs[int(np.searchsorted(ends, place, side="right"))].name, likeness


def _stretches(one: Recording) -> list[Array]:
    """Return stretches of norm 1: of its beginning and, of a long one, of its middle."""
    starts = [0] if len(one.samples) < 3 * STRETCH else [0, len(one.samples) // 2]
    parts = [one.samples[at : at + STRETCH] for at in starts]
    return [part / max(float(np.linalg.norm(part)), LEAST_NORM) for part in parts]


def _likeness(spectrum: Array, norms: Array, stretch: Array, at: int) -> tuple[float, int]:
    """Return the highest correlation of a stretch with a block, and the frame where it is."""
    correlation = np.abs(irfft(spectrum * np.conj(rfft(stretch, BLOCK)), BLOCK)[: len(norms)]) / norms
    place = int(np.argmax(correlation))
    return float(correlation[place]), at + place


def main() -> None:
    """Print what each bank to be fitted on has in common with each test bank."""
    tested = {bank.name: recordings_of(bank) for bank in TEST_BANKS}
    for bank in (*TRAINING_BANKS, *FURTHER_BANKS):
        ours = recordings_of(bank)
        print(f"{bank.name}: {len(ours)} recordings", flush=True)
        for name, theirs in tested.items():
            for our_name, their_name, likeness in shared(ours, theirs):
                print(f"    {our_name!r} is {their_name!r} of {name} ({likeness:.3f})", flush=True)


if __name__ == "__main__":
    main()
