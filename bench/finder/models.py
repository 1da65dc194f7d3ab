"""Phrases of physical models of instruments, for fitting only: blown, bowed, plucked and struck, by Debian's stk."""

import subprocess
import tempfile
from dataclasses import replace
from pathlib import Path

import numpy as np
import soundfile

from finder.phrases import RATE, Instrument, Phrase, draw_notes

__all__ = ["MODELS", "draw_model"]

MODELS = "stk"
NAMES = (
    "BandedWG",
    "BeeThree",
    "BlowBotl",
    "BlowHole",
    "Bowed",
    "Brass",
    "Clarinet",
    "FMVoices",
    "Flute",
    "Mandolin",
    "ModalBar",
    "Mesh2D",
    "Moog",
    "PercFlut",
    "Plucked",
    "Recorder",
    "Rhodey",
    "Saxofony",
    "Sitar",
    "StifKarp",
    "TubeBell",
    "VoicForm",
    "Wurley",
)
CONTROLS = (1, 2, 4, 8, 11)  # of each model other things: breath, place of the bow, brightness
AS_THEY_ARE = 0.4  # of the phrases


def draw_model(random: np.random.Generator, *, seconds: float) -> Phrase:
    """Return a phrase of a model with its controls set at random, of one channel."""
    name = NAMES[int(random.integers(len(NAMES)))]
    low = int(random.integers(40, 64))
    instrument = Instrument(f"model {name}", "other", 0, low, low + 26)
    lines = []
    if random.random() > AS_THEY_ARE:
        lines = [f"ControlChange 0.0 1 {number} {random.uniform(10, 118):.1f}" for number in CONTROLS]
    notes = draw_notes(instrument, random, seconds)
    events = [(start, f"NoteOn {{:.4f}} 1 {note} {velocity}") for start, _, note, velocity in notes]
    events += [(end, f"NoteOff {{:.4f}} 1 {note} 64") for _, end, note, _ in notes]
    now = 0.0
    for at, line in sorted(events):
        lines.append(line.format(at - now))
        now = at
    lines.append(f"NoteOff {max(seconds - now, 0.1):.4f} 1 60 64")
    with tempfile.TemporaryDirectory() as folder:
        score, sound = Path(folder) / "score.ski", Path(folder) / "sound.wav"
        score.write_text("\n".join(lines) + "\n")
        command = ["stk-demo", name, "-s", str(RATE), "-ow", str(sound), "-if", str(score)]
        subprocess.run(command, check=True, capture_output=True, stdin=subprocess.DEVNULL, timeout=120)
        x, _ = soundfile.read(sound)
    n = round(seconds * RATE)
    out = np.zeros(n)
    out[: min(n, len(x))] = x[:n]
    peak = float(np.max(np.abs(out))) or 1.0
    out *= 10.0 ** (random.uniform(-14, -1) / 20.0) / peak
    return Phrase(MODELS, replace(instrument, name=name), out[None].astype(np.float32))
