"""Phrases of sampled instruments for tests, rendered by Debian's fluidsynth with its small bank (never shipped)."""

import subprocess
import tempfile
from functools import lru_cache

import mido
import numpy as np
import soundfile

RATE = 48_000
BANK = "/usr/share/sounds/sf2/TimGM6mb.sf2"
Note = tuple[float, float, float]  # start_s, end_s, hz


@lru_cache(maxsize=32)
def phrase(program: int, notes: tuple[int, ...], *, length_s: float = 0.45) -> tuple[np.ndarray, list[Note]]:
    """Return (2, frames) of notes one after the other, and what was played."""
    track = mido.MidiTrack(
        [mido.MetaMessage("set_tempo", tempo=500_000), mido.Message("program_change", program=program)]
    )
    start_s, now, played = 0.1, 0, []
    for note in notes:
        for kind, at_s in (("note_on", start_s), ("note_off", start_s + length_s)):
            tick = round(at_s * 960)
            track.append(mido.Message(kind, note=note, velocity=90, time=tick - now))
            now = tick
        played.append((start_s, start_s + length_s, 440.0 * 2.0 ** ((note - 69) / 12.0)))
        start_s += length_s + 0.05
    file = mido.MidiFile(ticks_per_beat=480)
    file.tracks.append(track)
    with tempfile.TemporaryDirectory() as folder:
        file.save(f"{folder}/p.mid")
        command = [
            "fluidsynth",
            "-ni",
            "-q",
            "-r",
            str(RATE),
            "-g",
            "0.5",
            "-R",
            "0",
            "-C",
            "0",
            "-O",
            "float",
            "-T",
            "wav",
        ]
        subprocess.run([*command, "-F", f"{folder}/p.wav", BANK, f"{folder}/p.mid"], check=True, capture_output=True)
        samples, _ = soundfile.read(f"{folder}/p.wav", always_2d=True)
    return np.ascontiguousarray(samples.T), played


def pink(seconds: float, *, seed: int = 1) -> np.ndarray:
    """Return (2, frames) of pink noise, -20 dBFS RMS."""
    random, n, rows = np.random.default_rng(seed), round(seconds * RATE), []
    for _ in range(2):
        spectrum = np.fft.rfft(random.standard_normal(n))
        spectrum /= np.sqrt(np.maximum(np.arange(len(spectrum)), 1))
        row = np.fft.irfft(spectrum, n)
        rows.append(0.1 * row / row.std())
    return np.array(rows)
