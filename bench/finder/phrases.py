"""Phrases of sampled instruments for the finder's benchmark, from freely licensed banks of Debian.

No bank serves both for fitting and for testing. Notes are drawn at random; every phrase is invented here.
"""

import subprocess
import tempfile
from dataclasses import dataclass, replace
from pathlib import Path

import mido
import numpy as np
import soundfile

from mivlo.core.units import Array

__all__ = [
    "FURTHER_BANKS",
    "INSTRUMENTS",
    "RATE",
    "TEST_BANKS",
    "TRAINING_BANKS",
    "Bank",
    "Instrument",
    "Phrase",
    "draw_drums",
    "draw_instrument",
    "draw_notes",
    "draw_phrase",
    "render_notes",
]

RATE = 48_000
FOLDER = Path("/usr/share/sounds")
SEMITONE_STEPS = (-7, -5, -4, -3, -2, -2, -1, 1, 2, 2, 3, 4, 5, 7)
CHORDS = ((0, 4, 7), (0, 3, 7), (0, 5, 9), (0, 4, 7, 10), (0, 7, 12, 16), (0, 3, 8))


@dataclass(frozen=True, slots=True)
class Bank:
    """A bank of a Debian package: its file, and whether it holds instruments, drums or both.

    `without` are programs and drums whose recordings are in a test bank as well (finder/shared_recordings.py). Both are
    numbers: one that names a drum takes the program of that number away too.
    """

    name: str
    file: str
    melodic: bool
    drum_kits: tuple[int, ...]
    drum_channel: int = 9
    player: str = "fluidsynth"  # or "wildmidi", for patches of the older kind
    without: frozenset[int] = frozenset()


# The two groups share no maker; the Black Pearl kit is in no bank of the other group.
TRAINING_BANKS = (
    Bank("fluid-soundfont-gm", "sf2/FluidR3_GM.sf2", melodic=True, drum_kits=(0, 8, 16, 32, 40)),
    # Made from the one above, with newer recordings of many instruments.
    Bank(
        "musescore-general-soundfont", "sf3/MuseScore_General.sf3", melodic=True, drum_kits=(0, 8, 16, 25, 32, 40, 48)
    ),
    Bank("opl3-soundfont", "sf2/OPL-3_FM_128M.sf2", melodic=True, drum_kits=()),
    Bank("avldrums (black pearl)", "sf2/Black_Pearl_4_LV2.sf2", melodic=False, drum_kits=(0,), drum_channel=0),
)
# By yet other makers, fitted on as well.
FURTHER_BANKS = (
    Bank(
        "minuet-data",
        "/usr/share/minuet/soundfonts/GeneralUser-v1.47.sf2",
        melodic=True,
        drum_kits=(0, 1, 8, 16, 24, 25),
        without=frozenset({53, 60, 61, 68, 70, 76, 77}),
    ),
    Bank(
        "freepats",
        "/etc/timidity/freepats.cfg",
        melodic=True,
        drum_kits=(0,),
        player="wildmidi",
        without=frozenset({67, 68, 74}),
    ),
)
TEST_BANKS = (
    Bank("timgm6mb-soundfont", "sf2/TimGM6mb.sf2", melodic=True, drum_kits=(0,)),
    Bank("csound-soundfont", "sf2/sf_GMbank.sf2", melodic=True, drum_kits=(0,)),
    Bank("avldrums (red zeppelin)", "sf2/Red_Zeppelin_4_LV2.sf2", melodic=False, drum_kits=(0,), drum_channel=0),
)


@dataclass(frozen=True, slots=True)
class Instrument:
    """What plays: a General MIDI program with its usual range, or one drum or a kit (by notes of the drum channel)."""

    name: str
    role: str
    program: int = 0
    low: int = 48
    high: int = 72
    manner: str = "line"  # or "chords", "drums"
    drums: tuple[int, ...] = ()


INSTRUMENTS = (
    Instrument("piano", "keys", 0, 36, 84, "chords"), Instrument("electric piano", "keys", 4, 40, 79, "chords"),
    Instrument("harpsichord", "keys", 6, 41, 77, "chords"), Instrument("vibraphone", "keys", 11, 53, 84),
    Instrument("marimba", "keys", 12, 48, 84), Instrument("organ", "keys", 16, 40, 79, "chords"),
    Instrument("accordion", "reeds", 21, 50, 79, "chords"), Instrument("harmonica", "reeds", 22, 60, 84),
    Instrument("nylon guitar", "acoustic guitar", 24, 40, 72, "chords"),
    Instrument("steel guitar", "acoustic guitar", 25, 40, 72, "chords"),
    Instrument("clean guitar", "electric guitar", 27, 40, 74, "chords"),
    Instrument("overdriven guitar", "electric guitar", 29, 40, 74), Instrument("upright bass", "bass", 32, 28, 50),
    Instrument("electric bass", "bass", 33, 28, 52), Instrument("picked bass", "bass", 34, 28, 52),
    Instrument("violin", "strings", 40, 55, 88), Instrument("viola", "strings", 41, 48, 79),
    Instrument("cello", "strings", 42, 36, 67), Instrument("string ensemble", "strings", 48, 43, 79, "chords"),
    Instrument("choir", "backing voice", 52, 48, 74, "chords"), Instrument("trumpet", "brass", 56, 54, 80),
    Instrument("trombone", "brass", 57, 40, 67), Instrument("horn", "brass", 60, 41, 70),
    Instrument("brass section", "brass", 61, 46, 74, "chords"), Instrument("alto saxophone", "reeds", 65, 50, 77),
    Instrument("oboe", "reeds", 68, 59, 86), Instrument("clarinet", "reeds", 71, 50, 84),
    Instrument("flute", "other", 73, 60, 90),
    Instrument("banjo", "acoustic guitar", 105, 48, 76), Instrument("fiddle", "strings", 110, 55, 84),
)  # fmt: skip
DRUMS = (
    Instrument("kick", "kick", manner="drums", drums=(36, 35)),
    Instrument("snare", "snare", manner="drums", drums=(38, 40)),
    Instrument("toms", "toms", manner="drums", drums=(41, 45, 47, 50)),
    Instrument("cymbals", "cymbals", manner="drums", drums=(42, 46, 51, 49)),
    Instrument("kit", "other", manner="drums", drums=(36, 38, 42, 42, 46, 51, 45)),
)
# Played by hands; to be fitted on only, so that drums are not judged by kits alone.
HAND_DRUMS = (
    Instrument("bongos", "hand percussion", manner="drums", drums=(60, 61)),
    Instrument("congas", "hand percussion", manner="drums", drums=(62, 63, 64)),
    Instrument("timbales", "hand percussion", manner="drums", drums=(65, 66)),
    Instrument("bells and blocks", "hand percussion", manner="drums", drums=(56, 67, 68, 76, 77)),
    Instrument("shakers", "hand percussion", manner="drums", drums=(54, 69, 70, 82)),
)
# Of General MIDI, less its effects and noises from 96 on.
OTHER_PROGRAMS = tuple(sorted(set(range(96)) - {instrument.program for instrument in INSTRUMENTS}))


@dataclass(frozen=True, slots=True)
class Phrase:
    """A rendered phrase: (channels, frames) of float32, and what played it."""

    bank: str
    instrument: Instrument
    samples: Array


def draw_instrument(bank: Bank, random: np.random.Generator, *, others: bool = False) -> Instrument:
    """Return what plays: each instrument as likely as any other, each kind of drum twice as likely, with any kit.

    With `others`, one in three is any other program of the bank, lest an ear fitted to the named ones knows no others.
    """
    if others and bank.melodic and random.random() < 1.0 / 3.0:
        low = int(random.integers(36, 56))
        manner = str(random.choice(("line", "chords")))
        programs = [program for program in OTHER_PROGRAMS if program not in bank.without]
        return Instrument("another", "other", int(random.choice(programs)), low, low + 32, manner)
    choices: list[Instrument] = [*(INSTRUMENTS if bank.melodic else ()), *((*DRUMS, *DRUMS) if bank.drum_kits else ())]
    choices = [choice for choice in choices if bank.without.isdisjoint(choice.drums or {choice.program})]
    chosen = choices[int(random.integers(len(choices)))]
    if chosen.manner != "drums":
        return chosen
    return replace(chosen, program=int(random.choice(bank.drum_kits)))


def draw_drums(random: np.random.Generator, *, seconds: float, among: tuple[Bank, ...] = TRAINING_BANKS) -> Phrase:
    """Return a phrase of one drum, a few of a kind or a kit, of any of some banks that has them; for fitting only."""
    banks = [bank for bank in among if bank.drum_kits]
    bank = banks[int(random.integers(len(banks)))]
    choices = [*DRUMS, *(HAND_DRUMS if bank.melodic else ())]
    choices = [choice for choice in choices if bank.without.isdisjoint(choice.drums)]
    chosen = choices[int(random.integers(len(choices)))]
    return draw_phrase(bank, replace(chosen, program=int(random.choice(bank.drum_kits))), random, seconds=seconds)


def draw_phrase(bank: Bank, instrument: Instrument, random: np.random.Generator, *, seconds: float) -> Phrase:
    """Return a random phrase of an instrument, mono or stereo by chance."""
    samples = render_notes(bank, instrument, draw_notes(instrument, random, seconds), seconds)
    samples = samples if random.random() < 0.5 else samples.mean(axis=0, keepdims=True)
    peak = float(np.max(np.abs(samples))) or 1.0
    return Phrase(
        bank.name, instrument, (samples * (10.0 ** (random.uniform(-14, -1) / 20.0) / peak)).astype(np.float32)
    )


MidiNote = tuple[float, float, int, int]  # start_s, end_s, note, velocity


def draw_notes(instrument: Instrument, random: np.random.Generator, seconds: float) -> list[MidiNote]:
    """Return notes as an instrument plays them."""
    return {"line": _line, "chords": _chords, "drums": _strokes}[instrument.manner](instrument, random, seconds)


def _line(instrument: Instrument, random: np.random.Generator, seconds: float) -> list[MidiNote]:
    notes, at = [], 0.05
    low = int(random.integers(instrument.low, max(instrument.high - 16, instrument.low + 1)))
    high = min(low + int(random.integers(12, 25)), instrument.high)
    note, beat = int(random.integers(low, high + 1)), random.uniform(0.18, 0.45)
    while at < seconds - 0.3:
        length = beat * random.choice((0.5, 1, 1, 2, 3))
        notes.append((at, at + length * random.uniform(0.6, 1.0), note, _velocity(random, at, seconds)))
        at += length + (beat if random.random() < 0.12 else 0.0)
        note = int(np.clip(note + random.choice(SEMITONE_STEPS), low, high))
    return notes


def _chords(instrument: Instrument, random: np.random.Generator, seconds: float) -> list[MidiNote]:
    notes: list[MidiNote] = []
    at, beat, rolled = 0.05, random.uniform(0.3, 0.9), random.random() < 0.4
    while at < seconds - 0.4:
        root = int(random.integers(instrument.low, max(instrument.high - 17, instrument.low + 1)))
        length = beat * random.choice((1, 1, 2))
        velocity = _velocity(random, at, seconds)
        for index, step in enumerate(CHORDS[random.integers(len(CHORDS))]):
            start = at + (index * beat / 4 if rolled else random.uniform(0, 0.02))
            notes.append((start, at + length * random.uniform(0.8, 1.0), root + step, velocity))
        at += length
    return notes


def _strokes(instrument: Instrument, random: np.random.Generator, seconds: float) -> list[MidiNote]:
    notes, at, beat = [], 0.05, random.uniform(0.16, 0.5)
    while at < seconds - 0.3:
        if random.random() < 0.85:
            drum = int(random.choice(instrument.drums))
            notes.append((at, at + 0.12, drum, _velocity(random, at, seconds)))
        at += beat * random.choice((0.5, 1, 1, 1, 2))
    return notes


def _velocity(random: np.random.Generator, at: float, seconds: float) -> int:
    """Return a velocity: phrases swell and fade, as played ones do."""
    return int(np.clip(85 + 25 * np.sin(2 * np.pi * (at / seconds * 1.5)) + random.normal(0, 12), 30, 126))


def render_notes(bank: Bank, instrument: Instrument, notes: list[MidiNote], seconds: float) -> Array:
    """Return (2, frames) of an instrument of a bank playing notes, without the bank's reverberation."""
    channel = bank.drum_channel if instrument.manner == "drums" else 0
    events = [(start, 1, note, velocity) for start, _, note, velocity in notes] + [
        (end, 0, note, 0) for _, end, note, _ in notes
    ]
    track = mido.MidiTrack([mido.MetaMessage("set_tempo", tempo=500_000)])
    track.append(mido.Message("program_change", channel=channel, program=instrument.program))
    now = 0
    for at, on, note, velocity in sorted(events):
        tick = round(at * 960)
        kind = "note_on" if on else "note_off"
        track.append(mido.Message(kind, channel=channel, note=note, velocity=velocity, time=tick - now))
        now = tick
    file = mido.MidiFile(ticks_per_beat=480)
    file.tracks.append(track)
    with tempfile.TemporaryDirectory() as folder:
        file.save(f"{folder}/p.mid")
        subprocess.run(_command(bank, f"{folder}/p.mid", f"{folder}/p.wav"), check=True, capture_output=True)
        samples, _ = soundfile.read(f"{folder}/p.wav", always_2d=True)
    n = round(seconds * RATE)
    out = np.zeros((2, n))
    out[:, : min(n, len(samples))] = samples[:n].T
    return out


def _command(bank: Bank, midi: str, wav: str) -> list[str]:
    """Return what plays a file on a bank into another file, dry."""
    path = str(FOLDER / bank.file)
    if bank.player == "wildmidi":
        return ["wildmidi", "-c", path, "-r", str(RATE), "-o", wav, midi]
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
    return [*command, "-o", "synth.dynamic-sample-loading=1", "-F", wav, path, midi]
