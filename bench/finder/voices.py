"""A synthetic voice (Debian's espeak-ng, nonsense without s, p or b) with plosives and sibilants planted at known
times."""

import subprocess
import tempfile
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import soundfile
import soxr
from scipy.signal import butter, sosfilt

from mivlo.core.units import Array

__all__ = ["PlantedEvent", "draw_voice"]

RATE = 48_000
SYLLABLES = [
    "la",
    "lo",
    "li",
    "ma",
    "mo",
    "mi",
    "na",
    "no",
    "ni",
    "re",
    "ro",
    "ra",
    "ye",
    "yo",
    "wa",
    "we",
    "la",
    "ma",
    "lo",
]
VOICES = ("en", "en+m3", "en+f2", "en+f4", "de+m1", "it+f3")
APART_S = 0.5


@dataclass(frozen=True, slots=True)
class PlantedEvent:
    """A planted plosive or sibilant, in seconds."""

    kind: str
    start_s: float
    end_s: float


def draw_voice(random: np.random.Generator) -> tuple[Array, list[PlantedEvent]]:
    """Return (1, frames) of a voice and what was planted in it."""
    words = [
        "".join(SYLLABLES[int(i)] for i in random.integers(0, len(SYLLABLES), int(random.integers(1, 4))))
        for _ in range(22)
    ]
    text = " ".join(word + ("," if random.random() < 0.2 else "") for word in words)
    voice, speed, pitch = (
        VOICES[int(random.integers(len(VOICES)))],
        int(random.integers(95, 150)),
        int(random.integers(25, 75)),
    )
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "voice.wav"
        command = ["espeak-ng", "-v", voice, "-s", str(speed), "-p", str(pitch), "-w", str(path), text]
        subprocess.run(command, check=True, capture_output=True)
        speech, rate = soundfile.read(path)
    x = np.asarray(soxr.resample(speech, rate, RATE))
    x = 0.5 * x / np.max(np.abs(x))
    events: list[PlantedEvent] = []
    at = float(random.uniform(0.3, 0.9))
    while at < len(x) / RATE - 0.5:
        kind = "plosive" if random.random() < 0.5 else "sibilance"
        sound = _plosive(random) if kind == "plosive" else _sibilant(random)
        start = round(at * RATE)
        count = min(len(sound), len(x) - start)
        x[start : start + count] += sound[:count]
        events.append(PlantedEvent(kind, at, at + len(sound) / RATE))
        at += float(random.uniform(APART_S, 1.6))
    return x[None], events


def _plosive(random: np.random.Generator) -> Array:
    """A gust: a low swing, or a burst of low noise, up in a few milliseconds and gone in a tenth of a second."""
    length_s = float(random.uniform(0.06, 0.12))
    t = np.arange(round(length_s * RATE)) / RATE
    envelope = (
        np.clip(t / random.uniform(0.003, 0.01), 0, 1)
        * np.exp(-t / (length_s / 4))
        * np.clip((length_s - t) / 0.01, 0, 1)
    )
    if random.random() < 0.5:
        x = np.sin(2 * np.pi * random.uniform(35, 75) * t)
    else:
        x = sosfilt(butter(2, random.uniform(70, 130), fs=RATE, output="sos"), random.standard_normal(len(t)))
        x = x / np.max(np.abs(x))
    return np.asarray(x * envelope * random.uniform(0.5, 1.0))


def _sibilant(random: np.random.Generator) -> Array:
    low = float(random.uniform(3_800, 6_000))
    n = round(random.uniform(0.08, 0.18) * RATE)
    sos = butter(2, [low, low * random.uniform(1.5, 2.2)], "bandpass", fs=RATE, output="sos")
    noise = sosfilt(sos, random.standard_normal(n))
    return np.asarray(
        noise / np.max(np.abs(noise)) * np.hanning(n) ** random.uniform(0.4, 1.0) * random.uniform(0.15, 0.5)
    )
