"""Arrangements of sampled instruments, each in a register of its own, in some of which one pair collides on purpose.

Invented here: chords, rhythms and notes are drawn at random. No bank serves both for tuning and for the test.
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from finder.phrases import RATE, TEST_BANKS, TRAINING_BANKS, Bank, Instrument, render_notes
from scipy.signal import butter, sosfilt

from mivlo.core.loudness import integrated_loudness
from mivlo.core.units import Array

__all__ = ["HOW", "Arrangement", "Part", "Planted", "draw_arrangement"]

# Registers: lowest note, and who plays there (General MIDI program, name, role). Each part is kept to its own band:
# overtones of all would collide with all otherwise. Between two bands lies an ear's band (ERB, Glasberg and Moore
# 1990) or more:
# nearer ones
# hide each other in any ear, and would not be clean.
REGISTERS: Sequence[tuple[int, Sequence[tuple[int, str, str]]]] = (
    (28, ((32, "upright bass", "bass"), (33, "electric bass", "bass"), (34, "picked bass", "bass"))),
    (47, ((42, "cello", "strings"), (57, "trombone", "brass"), (70, "bassoon", "reeds"), (60, "horn", "brass"))),
    (
        63,
        (
            (24, "nylon guitar", "acoustic guitar"),
            (16, "organ", "keys"),
            (41, "viola", "strings"),
            (65, "saxophone", "reeds"),
            (0, "piano", "keys"),
            (71, "clarinet", "reeds"),
        ),
    ),
    (
        78,
        (
            (56, "trumpet", "brass"),
            (40, "violin", "strings"),
            (68, "oboe", "reeds"),
            (22, "harmonica", "reeds"),
            (11, "vibraphone", "keys"),
        ),
    ),
    (
        93,
        (
            (73, "flute", "other"),
            (9, "glockenspiel", "keys"),
            (72, "piccolo", "other"),
            (40, "violin up high", "strings"),
        ),
    ),
)
HOW = ("notes", "tone", "backing", "wide")  # a clash is planted
# Who plays from the bottom to the top, in chords of a note to each octave and with all overtones.
WIDE = (
    (0, "grand piano", "keys"), (19, "church organ", "keys"), (48, "string section", "strings"),
    (25, "steel guitar", "acoustic guitar"),
)  # fmt: skip
WIDE_LOWEST, WIDE_HIGHEST, OCTAVE = 33, 93, 12
SCALE = (0, 2, 3, 5, 7)
SPAN = 7  # semitones of a register that are used
BAND_BELOW, BAND_ABOVE = 1.12, 1.2  # from the lowest note and to the highest
LOWS_LU = (9.0, 3.0)  # more for the two lowest registers, as mixes have it: the ear hears them badly
LOUD_LUFS = -26.0


@dataclass(frozen=True, slots=True)
class Part:
    """One track: (channels, frames) float32 at RATE."""

    name: str
    role: str
    samples: Array


@dataclass(frozen=True, slots=True)
class Planted:
    """The pair that collides, by their numbers, and the region in which it does."""

    hidden: int
    by: int
    low_hz: float
    high_hz: float
    how: str


@dataclass(frozen=True, slots=True)
class Arrangement:
    """Tracks that play together, and what was planted; None: nothing."""

    bank: str
    parts: tuple[Part, ...]
    planted: Planted | None


def draw_arrangement(part: str, index: int, *, seconds: float = 12.0) -> Arrangement:
    """Return one arrangement of "training" or "test" by its number.

    Of six, one is clean, one collides by tone, two by notes, one is a finished backing of all parts but one, and in
    one a wide track lies over one that keeps to its register.
    """
    random = np.random.default_rng((index, part == "test", 5))
    banks = [bank for bank in (TEST_BANKS if part == "test" else TRAINING_BANKS) if bank.melodic]
    bank = banks[int(random.integers(len(banks)))]
    how = ("notes", "clean", "notes", "tone", "backing", "wide")[index % 6]
    registers = sorted(random.choice(len(REGISTERS), size=int(random.integers(3, 6)), replace=False).tolist())
    drawn = [_track(bank, register, random, seconds) for register in registers]
    levels = [_usual(register) + float(random.uniform(-2, 2)) for register in registers]
    parts = [_at(part, level) for (part, _, _), level in zip(drawn, levels, strict=True)]
    if how == "clean":
        return Arrangement(bank.name, tuple(parts), None)
    victim = int(random.integers(1 if how in ("tone", "wide") else 0, len(parts)))
    low_hz, high_hz = _reach(drawn[victim][1])
    louder_lu = levels[victim] + float(random.uniform(5, 10))
    if how == "wide":
        wide = _wide(bank, random, seconds)
        there = sosfilt(butter(6, [low_hz, high_hz], "bandpass", fs=RATE, output="sos"), wide.samples, axis=1)
        gain = _at(replace(wide, samples=there.astype(np.float32)), louder_lu).samples.std() / max(
            float(there.std()), 1e-9
        )
        wide = replace(wide, samples=(gain * wide.samples).astype(np.float32))
        return Arrangement(bank.name, (parts[victim], wide), Planted(0, 1, low_hz, high_hz, how))
    if how in ("notes", "backing"):
        other, notes, _ = _track(bank, registers[victim], random, seconds, not_named=parts[victim].name)
        region = _reach([*drawn[victim][1], *notes])
        region = (region[0], BAND_ABOVE * region[1] / 1.06)
        other = _at(other, louder_lu)
        if how == "notes":
            return Arrangement(bank.name, (*parts, other), Planted(victim, len(parts), *region, how))
        # Two channels hold all but one, and one is alone before them.
        rest = [part.samples for index, part in enumerate([*parts, other]) if index != victim]
        mixed = np.stack([np.broadcast_to(one, (2, one.shape[1])) for one in rest]).sum(axis=0)
        backing = Part("backing", "full backing", mixed.astype(np.float32))
        return Arrangement(bank.name, (parts[victim], backing), Planted(0, 1, *region, how))
    by = int(random.integers(victim))
    # What this one has up there, as if its tone were badly chosen: its own overtones, loud.
    band = butter(6, [low_hz, high_hz], "bandpass", fs=RATE, output="sos")
    over = _at(Part("", "", sosfilt(band, drawn[by][2], axis=1).astype(np.float32)), louder_lu)
    parts[by] = replace(parts[by], samples=parts[by].samples + over.samples)
    return Arrangement(bank.name, tuple(parts), Planted(victim, by, low_hz, high_hz, how))


def _reach(notes: Sequence[float]) -> tuple[float, float]:
    """Return the lowest and the highest of notes in Hz, with a semitone around."""
    return _hz(min(notes)) / 1.06, 1.06 * _hz(max(notes))


def _track(
    bank: Bank, register: int, random: np.random.Generator, seconds: float, *, not_named: str = ""
) -> tuple[Part, list[int], Array]:
    """Return a part kept to its register's band, its notes, and its sound with all overtones."""
    low, players = REGISTERS[register]
    choices = [player for player in players if player[1] != not_named]
    player, notes, samples = _played(bank, choices, random, seconds, lows=(low,), lengths=(1, 1, 2, 3), rests=0.08)
    mono = random.random() < 0.5
    kept = samples.mean(axis=0, keepdims=True) if mono else samples
    band = butter(8, [_hz(low) / BAND_BELOW, BAND_ABOVE * _hz(low + SPAN)], "bandpass", fs=RATE, output="sos")
    return Part(player.name, player.role, sosfilt(band, kept, axis=1).astype(np.float32)), notes, kept


def _wide(bank: Bank, random: np.random.Generator, seconds: float) -> Part:
    """Return chords over the whole compass."""
    lows = range(WIDE_LOWEST, WIDE_HIGHEST, OCTAVE)
    player, _, samples = _played(bank, WIDE, random, seconds, lows=lows, lengths=(1, 2, 2, 4))
    return Part(player.name, player.role, samples.astype(np.float32))


def _played(
    bank: Bank,
    choices: Sequence[tuple[int, str, str]],
    random: np.random.Generator,
    seconds: float,
    *,
    lows: Sequence[int],
    lengths: Sequence[int],
    rests: float = 0.0,
) -> tuple[Instrument, list[int], Array]:
    """Return who plays, which notes, and the sound: at each stroke a note of the scale above each of `lows`."""
    while True:
        program, name, role = choices[int(random.integers(len(choices)))]
        notes, at, beat = [], 0.05, float(random.uniform(0.25, 0.6))
        while at < seconds - 0.4:
            length = beat * float(random.choice(lengths))
            chord = [low + int(random.choice(SCALE)) for low in lows]
            notes += [(at, at + 0.95 * length, note, int(random.integers(70, 110))) for note in chord]
            at += length + (beat if rests and random.random() < rests else 0.0)
        instrument = Instrument(name, role, program)
        samples = render_notes(bank, instrument, notes, seconds)
        if float(np.sqrt(np.mean(samples**2))) > 1e-4:  # not every bank has everybody
            return instrument, [note for _, _, note, _ in notes], samples


def _usual(register: int) -> float:
    return LOWS_LU[register] if register < len(LOWS_LU) else 0.0


def _hz(note: float) -> float:
    return float(440.0 * 2.0 ** ((note - 69) / 12.0))


def _at(part: Part, level_lu: float | None) -> Part:
    """Return a part so loud in LU around the usual; None: as it is."""
    if level_lu is None:
        return part
    lufs = integrated_loudness(part.samples.astype(np.float64), sample_rate_hz=RATE)
    mono = 3.0 if len(part.samples) == 1 else 0.0  # heard in both ears
    gain = 10.0 ** ((LOUD_LUFS + level_lu - mono - (LOUD_LUFS if lufs is None else lufs)) / 20.0)
    return replace(part, samples=(part.samples * gain).astype(np.float32))
