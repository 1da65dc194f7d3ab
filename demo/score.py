"""The demo's composition: a slow tune in six-eight for an invented harbour-town band, with uneven human playing."""

from dataclasses import dataclass, field

import numpy as np

__all__ = ["BAR_S", "EIGHTH_S", "N_BARS", "SECTIONS", "Note", "Part", "Syllable", "all_parts", "voice_line"]

EIGHTH_S = 0.3
BAR_S = 6 * EIGHTH_S
CHORDS = {
    "Dm": (50, 53, 57),
    "C": (48, 52, 55),
    "Am": (45, 48, 52),
    "F": (53, 57, 60),
    "Gm": (55, 58, 62),
    "Bb": (46, 50, 53),
}
# Names of passages, with the bar in which each begins.
SECTIONS = (("Opening", 0), ("Verse one", 2), ("Verse two", 10), ("Close", 18))
BARS = "Dm Dm | Dm C Dm Am F C Dm Dm | F C Gm Dm Bb F Am Dm | Dm Dm".replace("|", "").split()
N_BARS = len(BARS)
# The voice: per bar "note.eighths.syllable"; r rests. Words of our own.
TUNE = """
r.6 | r.6
A4.2.ba D5.1.e C5.2.so A4.1.i | G4.3.sa E4.2.pe r.1 | F4.2.bo A4.1.a D5.2.se C5.1.i | A4.4.a r.2
C5.2.pa A4.1.e F4.2.so G4.1.a | E4.3.si C4.2.bo r.1 | D4.2.pe F4.1.a A4.2.sa G4.1.o | D4.5.ba r.1
F5.2.pa E5.1.i D5.2.sa C5.1.e | C5.3.bo G4.2.sa r.1 | D5.2.si C5.1.a A#4.2.po A4.1.e | A4.4.sa r.2
A#4.2.ba D5.1.o F5.2.sa D5.1.e | C5.3.pa A4.2.so r.1 | G4.2.be A4.1.i C5.2.sa E4.1.o | D4.5.pa r.1
r.6 | r.6
"""
NAMES = {"C": 0, "C#": 1, "D": 2, "D#": 3, "E": 4, "F": 5, "F#": 6, "G": 7, "G#": 8, "A": 9, "A#": 10, "B": 11}


@dataclass(frozen=True, slots=True)
class Note:
    """One note of a sampled part; bends are (time, cents)."""

    start_s: float
    length_s: float
    midi: int
    velocity: int
    bends: tuple[tuple[float, float], ...] = ()


@dataclass(frozen=True, slots=True)
class Part:
    """One instrument."""

    program: int
    notes: list[Note] = field(default_factory=list)
    drums: bool = False


@dataclass(frozen=True, slots=True)
class Syllable:
    """One sung note."""

    start_s: float
    length_s: float
    midi: int
    text: str


def _midi(name: str) -> int:
    return NAMES[name[:-1]] + 12 * (int(name[-1]) + 1)


def voice_line() -> list[Syllable]:
    """Return the sung line."""
    line = []
    for bar, text in enumerate(t for row in TUNE.strip().split("\n") for t in row.split("|")):
        at = bar * BAR_S
        for token in text.split():
            pitch, eighths, *words = token.split(".")
            length = int(eighths) * EIGHTH_S
            if pitch != "r":
                line.append(Syllable(at, length * 0.94, _midi(pitch), words[0]))
            at += length
    return line


class _Player:
    """Plays notes unevenly: timing, force and length vary as people's do."""

    def __init__(self, random: np.random.Generator, *, timing_s: float, force: float) -> None:
        self._random, self._timing_s, self._force = random, timing_s, force

    def note(self, at: float, length: float, midi: int, velocity: float, *, vibrato_cents: float = 0.0) -> Note:
        start = max(at + self._random.normal(0, self._timing_s), 0.0)
        force = int(np.clip(velocity * (1 + self._random.normal(0, self._force)), 12, 126))
        length = length * self._random.uniform(0.9, 1.0)
        return Note(start, length, midi, force, self._vibrato(start, length, vibrato_cents))

    def _vibrato(self, start: float, length: float, cents: float) -> tuple[tuple[float, float], ...]:
        if not cents or length < 0.25:
            return ((start, self._random.normal(0, 2)),) if cents else ()
        rate_hz, lag = self._random.uniform(5.0, 6.2), 0.16
        times = np.arange(0.0, length, 0.012)
        depth = cents * np.clip((times - lag) / 0.25, 0, 1) * self._random.uniform(0.7, 1.15)
        drift = self._random.normal(0, 3)
        return tuple(
            (start + float(t), float(drift + d * np.sin(2 * np.pi * rate_hz * (t - lag))))
            for t, d in zip(times, depth, strict=True)
        )


def all_parts(random: np.random.Generator) -> dict[str, Part]:
    """Return every sampled part."""
    return {
        "Fiddle": Part(40, _fiddle(_Player(random, timing_s=0.012, force=0.07))),
        "Squeezebox": Part(21, _squeezebox(_Player(random, timing_s=0.010, force=0.08))),
        "Guitar": Part(25, _guitar(_Player(random, timing_s=0.006, force=0.12))),
        "Upright bass": Part(32, _bass(_Player(random, timing_s=0.009, force=0.09))),
        "Cello": Part(42, _cello(_Player(random, timing_s=0.02, force=0.06))),
        "Frame drum": Part(0, _frame_drum(_Player(random, timing_s=0.007, force=0.12)), drums=True),
        "Box drum": Part(0, _box_drum(_Player(random, timing_s=0.007, force=0.10)), drums=True),
        "Spoons": Part(0, _spoons(_Player(random, timing_s=0.006, force=0.18)), drums=True),
    }


def _bars() -> list[tuple[int, float, tuple[int, int, int]]]:
    return [(index, index * BAR_S, CHORDS[name]) for index, name in enumerate(BARS)]


def _fiddle(player: _Player) -> list[Note]:
    """Opens and closes the tune, answers the voice, and digs in during the second half."""
    notes = []
    for index, at, (root, third, fifth) in _bars():
        loud = 118 if 10 <= index < 18 else 74
        if index < 2 or index >= 18:
            steps = [(0, 2, fifth + 12), (2, 1, root + 24), (3, 2, third + 12), (5, 1, root + 12)]
        elif index % 2:
            steps = [(3, 1, fifth + 12), (4, 1, root + 24), (5, 1, third + 24)]
        elif index >= 10:
            steps = [(0, 3, fifth + 12), (3, 3, root + 24)]
        else:
            steps = []
        for step, eighths, midi in steps:
            swell = loud * (1.0 if step else 0.9)
            notes.append(player.note(at + step * EIGHTH_S, eighths * EIGHTH_S, midi, swell, vibrato_cents=22))
    return notes


def _squeezebox(player: _Player) -> list[Note]:
    """Holds chords in the voice's middle and breathes with the bellows."""
    notes = []
    for index, at, chord in _bars():
        for start, eighths, force in ((0, 3, 88), (3, 2, 70)) if index % 2 == 0 else ((0, 5, 80),):
            for midi in chord:
                notes.append(player.note(at + start * EIGHTH_S, eighths * EIGHTH_S, midi + 12, force))
        if index % 4 == 3:
            notes.append(player.note(at + 3 * EIGHTH_S, 3 * EIGHTH_S, chord[2] + 24, 84))
    return notes


def _guitar(player: _Player) -> list[Note]:
    notes = []
    for index, at, (root, third, fifth) in _bars():
        order = (root, fifth, root + 12, third + 12, fifth, root + 12)
        for step, midi in enumerate(order):
            force = 84 if step in (0, 3) else 62
            notes.append(player.note(at + step * EIGHTH_S, 0.9, midi, force * (1.12 if index >= 10 else 1.0)))
    return notes


def _bass(player: _Player) -> list[Note]:
    notes = []
    for index, at, (root, third, fifth) in _bars():
        low = root - 12 if root - 12 >= 33 else root
        second = {0: fifth, 1: low, 2: fifth, 3: third}[index % 4] - (12 if fifth - 12 >= 36 else 0)
        notes.append(player.note(at, 2.8 * EIGHTH_S, low, 96))
        notes.append(player.note(at + 3 * EIGHTH_S, 1.9 * EIGHTH_S, second, 82))
        if index % 2:
            notes.append(player.note(at + 5 * EIGHTH_S, 0.9 * EIGHTH_S, low + 2, 70))
    return notes


def _cello(player: _Player) -> list[Note]:
    return [
        player.note(at, BAR_S * 0.98, root - 12 if root - 12 >= 36 else root, 78 + 18 * (index >= 10), vibrato_cents=12)
        for index, at, (root, _, _) in _bars()
        if index >= 2
    ]


def _frame_drum(player: _Player) -> list[Note]:
    """Strokes at the middle (43, a floor tom) and at the rim (64, a low hand drum)."""
    notes = []
    for index, at, _ in _bars():
        for step, midi, force in ((0, 43, 104), (2, 64, 56), (3, 43, 82), (4, 64, 48), (5, 64, 66)):
            if index >= 1 and not (index % 4 == 3 and step == 4):
                notes.append(player.note(at + step * EIGHTH_S, 0.25, midi, force))
    return notes


def _box_drum(player: _Player) -> list[Note]:
    """A wooden box: its front struck low (41) and high (61)."""
    notes = []
    for index, at, _ in _bars():
        if index < 2:
            continue
        notes.append(player.note(at, 0.3, 41, 108))
        notes.append(player.note(at + 3 * EIGHTH_S, 0.3, 61, 88))
        if index % 2:
            notes.append(player.note(at + 4.5 * EIGHTH_S, 0.2, 41, 70))
            notes.append(player.note(at + 5 * EIGHTH_S, 0.2, 61, 60))
    return notes


def _spoons(player: _Player) -> list[Note]:
    notes = []
    for index, at, _ in _bars():
        if index < 2 or index in (9, 17):
            continue
        for step in (0, 1, 2, 3, 4, 5):
            midi = 85 if step in (0, 3) else 75
            notes.append(player.note(at + step * EIGHTH_S, 0.1, midi, 92 if step in (0, 3) else 58))
            if step == 5 and index % 2:
                notes.append(player.note(at + (step + 0.5) * EIGHTH_S, 0.1, 75, 50))
    return notes
