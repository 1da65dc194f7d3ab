"""Phrases from separate recordings, for fitting only: the kits of Debian's hydrogen-drumkits, each of another maker,
and the struck and plucked ones of sonic-pi-samples."""

from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from xml.etree import ElementTree

import numpy as np
import soundfile
import soxr

from finder.phrases import RATE, Instrument, Phrase, draw_notes
from mivlo.core.units import Array

__all__ = ["KITS", "RECORDINGS", "draw_kit", "draw_recordings"]

KITS = "hydrogen-drumkits"
FOLDER = Path("/usr/share/hydrogen/data/drumkits")
RECORDINGS = "sonic-pi-samples"
RECORDINGS_FOLDER = Path("/usr/share/sonic-pi/samples")
FAMILIES = (
    "bass",
    "bd",
    "drum",
    "elec",
    "guit",
    "perc",
    "sn",
    "tabla",
)  # their names begin so; others are loops and noises
LONGEST_S = 3.0
MOST_PIECES = 4


@dataclass(frozen=True, slots=True)
class Piece:
    """One drum of a kit: its recordings, the softest first."""

    files: tuple[Path, ...]


def draw_kit(random: np.random.Generator, *, seconds: float) -> Phrase:
    """Return a phrase of one to a few pieces of a kit, mono or stereo by chance."""
    kits = sorted(FOLDER.iterdir())
    return _phrase(KITS, "kit of recordings", _pieces(kits[int(random.integers(len(kits)))]), random, seconds)


def draw_recordings(random: np.random.Generator, *, seconds: float) -> Phrase:
    """Return a phrase of one to a few recordings of one family, mono or stereo by chance."""
    family = FAMILIES[int(random.integers(len(FAMILIES)))]
    pieces = tuple(Piece((path,)) for path in sorted(RECORDINGS_FOLDER.glob(f"{family}_*.flac")))
    return _phrase(RECORDINGS, f"recordings, {family}", pieces, random, seconds)


def _phrase(bank: str, name: str, pieces: tuple[Piece, ...], random: np.random.Generator, seconds: float) -> Phrase:
    n_chosen = int(random.choice((1, 1, 1, 2, MOST_PIECES)))
    chosen = [
        pieces[int(number)] for number in random.choice(len(pieces), size=min(n_chosen, len(pieces)), replace=False)
    ]
    instrument = Instrument(name, "other", manner="drums", drums=tuple(range(len(chosen))))
    out = np.zeros((2, round(seconds * RATE)))
    tuned = float(2.0 ** random.normal(0.0, 0.05))
    for start_s, _, number, velocity in draw_notes(instrument, random, seconds):
        files = chosen[number].files
        sound = _recording(files[min(int(velocity / 127.0 * len(files)), len(files) - 1)], tuned)
        start = round(start_s * RATE)
        part = sound[:, : out.shape[1] - start]
        out[:, start : start + part.shape[1]] += part * (velocity / 127.0) ** 2
    out = out if random.random() < 0.5 else out.mean(axis=0, keepdims=True)
    peak = float(np.max(np.abs(out))) or 1.0
    return Phrase(bank, instrument, (out * (10.0 ** (random.uniform(-14, -1) / 20.0) / peak)).astype(np.float32))


@lru_cache(maxsize=32)
def _pieces(kit: Path) -> tuple[Piece, ...]:
    """Return the pieces of a kit's description, with those of their recordings that are there."""
    found = []
    for instrument in ElementTree.parse(kit / "drumkit.xml").getroot().iter():
        if instrument.tag.rpartition("}")[2] == "instrument":
            names = [part.text for part in instrument.iter() if part.tag.rpartition("}")[2] == "filename" and part.text]
            files = tuple(kit / name for name in names if (kit / name).exists())
            found += [Piece(files)] if files else []
    return tuple(found)


@lru_cache(maxsize=64)
def _recording(path: Path, tuned: float) -> Array:
    """Return (2, frames) of a recording, tuned by a factor."""
    samples, rate = soundfile.read(path, always_2d=True, frames=-1)
    moved = soxr.resample(samples[: round(LONGEST_S * rate), :2], rate, RATE * tuned, quality="MQ").T
    return np.asarray(np.broadcast_to(moved, (2, moved.shape[1])))
