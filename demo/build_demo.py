"""Builds the demo session: an invented band, "The Slack Tide", recorded "live in a boathouse", faults planted on
purpose.

Run at development time only: needs fluidsynth and the Debian package fluid-soundfont-gm (MIT licence). The
composition, the words, the voice and the faults are our own and released under the terms of this repository.
Writes demo/tracks/*.flac, demo/session.json and demo/truth.json.

    .venv/bin/python demo/build_demo.py
"""

import json
import subprocess
import tempfile
from pathlib import Path

import mido
import numpy as np
import soundfile
from scipy.signal import butter, fftconvolve, lfilter, sosfilt
from score import BAR_S, N_BARS, SECTIONS, Note, all_parts, voice_line
from voice import sing

from mivlo.core.filters.matched import plain_bell
from mivlo.core.units import Array, db_to_gain

RATE_HZ = 48_000
BANK = Path("/usr/share/sounds/sf2/FluidR3_GM.sf2")
HERE = Path(__file__).parent
SECONDS = N_BARS * BAR_S + 1.6
PEAK_DB = -7.0


def render_part(notes: list[Note], program: int, *, drums: bool = False) -> Array:
    """Return (2, frames): one part played on the sampled bank, dry."""
    ticks_per_s = 960.0
    events = []
    channel = 9 if drums else 0
    for note in notes:
        events.append((note.start_s, mido.Message("note_on", channel=channel, note=note.midi, velocity=note.velocity)))
        events.append((note.start_s + note.length_s, mido.Message("note_off", channel=channel, note=note.midi)))
        for at_s, cents in note.bends:
            bend = int(np.clip(cents / 200.0 * 8191, -8191, 8191))
            events.append((at_s, mido.Message("pitchwheel", channel=channel, pitch=bend)))
    events.sort(key=lambda event: (event[0], event[1].type != "note_off"))
    track = mido.MidiTrack([mido.MetaMessage("set_tempo", tempo=500_000)])
    if not drums:
        track.append(mido.Message("program_change", channel=channel, program=program))
    now = 0
    for at_s, message in events:
        tick = max(round(at_s * ticks_per_s), now)
        track.append(message.copy(time=tick - now))
        now = tick
    file = mido.MidiFile(ticks_per_beat=480)
    file.tracks.append(track)
    with tempfile.TemporaryDirectory() as folder:
        file.save(f"{folder}/part.mid")
        command = ["fluidsynth", "-ni", "-q", "-r", str(RATE_HZ), "-g", "0.5", "-R", "0", "-C", "0", "-O", "float"]
        command += ["-T", "wav", "-F", f"{folder}/part.wav", str(BANK), f"{folder}/part.mid"]
        subprocess.run(command, check=True, capture_output=True)
        samples, _ = soundfile.read(f"{folder}/part.wav", always_2d=True)
    out = np.zeros((2, round(SECONDS * RATE_HZ)))
    count = min(out.shape[1], len(samples))
    out[:, :count] = samples[:count].T
    return out


def ring(x: Array, *, hz: float, t60_s: float, level_db: float) -> Array:
    """Add a decaying mode that the signal excites: a two-pole resonator of unit peak gain."""
    radius = 10.0 ** (-3.0 / (t60_s * RATE_HZ))
    w = 2.0 * np.pi * hz / RATE_HZ
    b = [(1.0 - radius**2) / 2.0, 0.0, -(1.0 - radius**2) / 2.0]
    mode = lfilter(b, [1.0, -2.0 * radius * np.cos(w), radius**2], x, axis=-1)
    return np.asarray(x + db_to_gain(level_db) * mode)


def envelope(x: Array, *, attack_s: float = 0.005, release_s: float = 0.08) -> Array:
    """Return the smoothed level of (channels, frames), 1 at its loudest."""
    level = np.abs(x).max(axis=0)
    fast = lfilter([1 - np.exp(-1 / (attack_s * RATE_HZ))], [1, -np.exp(-1 / (attack_s * RATE_HZ))], level)
    slow = lfilter([1 - np.exp(-1 / (release_s * RATE_HZ))], [1, -np.exp(-1 / (release_s * RATE_HZ))], fast)
    return np.asarray(slow / slow.max())


def harsh_when_loud(x: Array, *, low_hz: float, high_hz: float, most_db: float) -> Array:
    """Lift a band the more, the louder the playing is."""
    band = sosfilt(butter(2, [low_hz, high_hz], "bandpass", fs=RATE_HZ, output="sos"), x, axis=1)
    return np.asarray(x + band * (db_to_gain(most_db) - 1.0) * envelope(x) ** 2)


def hump(x: Array, *, hz: float, gain_db: float, q: float) -> Array:
    """Lift a wide region for good."""
    s = plain_bell(hz, gain_db, q, sample_rate_hz=RATE_HZ)
    return np.asarray(lfilter([s.b0, s.b1, s.b2], [1.0, s.a1, s.a2], x, axis=1))


def room(x: Array, random: np.random.Generator, *, wet_db: float) -> Array:
    """Add the boathouse: early slaps off planks and a short diffuse tail."""
    n = round(0.38 * RATE_HZ)
    response = random.standard_normal((2, n)) * 10.0 ** (-3.0 * np.arange(n) / n)
    response[:, : round(0.007 * RATE_HZ)] = 0.0
    for delay_ms, gain in ((7.3, 4.0), (11.9, -3.0), (17.6, 2.2), (26.1, 1.6)):
        response[:, round(delay_ms / 1000 * RATE_HZ)] += gain * random.uniform(0.8, 1.2, 2)
    response = sosfilt(butter(1, 4_500, fs=RATE_HZ, output="sos"), response, axis=1)
    response /= np.sqrt(np.sum(response**2, axis=1, keepdims=True))
    stereo = np.broadcast_to(x, (2, x.shape[1])) if len(x) == 1 else x
    wet = np.stack([fftconvolve(c, r)[: x.shape[1]] for c, r in zip(stereo, response, strict=True)])
    wet = wet if len(x) == 2 else wet.mean(axis=0, keepdims=True)
    return np.asarray(x + db_to_gain(wet_db) * wet)


def useless_lows(x: Array, random: np.random.Generator, *, level_db: float, top_hz: float) -> Array:
    """Add what the floor, the water and the road send into the stands: slow rumble under top_hz, and a hiss."""
    noise = random.standard_normal(x.shape)
    rumble = sosfilt(butter(2, [18.0, top_hz], "bandpass", fs=RATE_HZ, output="sos"), noise, axis=1)
    swell = 1.0 + 0.6 * np.sin(2 * np.pi * 0.23 * np.arange(x.shape[1]) / RATE_HZ + random.uniform(0, 6))
    rumble *= swell / np.sqrt(np.mean(rumble**2))
    return np.asarray(x + db_to_gain(level_db) * rumble + db_to_gain(-82.0) * random.standard_normal(x.shape))


def normalised(x: Array) -> Array:
    """Return the track with its peak where a careful recordist would have left it."""
    return np.asarray(x * db_to_gain(PEAK_DB) / np.max(np.abs(x)))


def build() -> None:
    """Render, spoil and write every track."""
    random = np.random.default_rng(1871)
    parts = all_parts(random)
    dry = {name: render_part(part.notes, part.program, drums=part.drums) for name, part in parts.items()}
    mono = {name: x.mean(axis=0, keepdims=True) for name, x in dry.items()}
    voice, voice_events = sing(voice_line(), seconds=SECONDS, rate_hz=RATE_HZ, random=random)
    tracks = {
        "Lead voice": room(voice, random, wet_db=-16),
        "Fiddle": harsh_when_loud(room(mono["Fiddle"], random, wet_db=-14), low_hz=2_600, high_hz=4_400, most_db=13),
        "Squeezebox": ring(room(dry["Squeezebox"], random, wet_db=-16), hz=2_937.0, t60_s=0.09, level_db=15),
        "Guitar": room(dry["Guitar"], random, wet_db=-18),
        "Upright bass": ring(room(mono["Upright bass"], random, wet_db=-18), hz=98.6, t60_s=0.55, level_db=10),
        "Cello": room(mono["Cello"], random, wet_db=-15),
        "Frame drum": ring(room(mono["Frame drum"], random, wet_db=-15), hz=431.0, t60_s=0.85, level_db=31),
        "Box drum": hump(room(mono["Box drum"], random, wet_db=-14), hz=385.0, gain_db=8.5, q=0.9),
        "Spoons": room(mono["Spoons"], random, wet_db=-13),
    }
    folder = HERE / "tracks"
    folder.mkdir(exist_ok=True)
    session = []
    for name, x in tracks.items():
        low_db = -50.0 if name in ("Upright bass", "Box drum") else -41.0
        x = normalised(useless_lows(normalised(x), random, level_db=low_db, top_hz=62.0))
        offset_frames = round(2 * BAR_S * RATE_HZ) if name == "Spoons" else 0
        x = x[:, offset_frames:]
        file = f"{name.lower().replace(' ', '-')}.flac"
        soundfile.write(folder / file, np.rint(x.T * 32767).astype(np.int16), RATE_HZ, subtype="PCM_16")
        session.append({"file": file, "name": name, "start_frame": offset_frames, **SETTINGS[name]})
    ends = [bar for _, bar in SECTIONS[1:]] + [N_BARS]
    sections = [
        {"name": name, "start_frame": round(bar * BAR_S * RATE_HZ), "end_frame": round(end * BAR_S * RATE_HZ)}
        for (name, bar), end in zip(SECTIONS, ends, strict=True)
    ]
    plan = {"name": "Boathouse, take 3 (invented)", "sample_rate_hz": RATE_HZ, "sections": sections, "tracks": session}
    write_json(HERE / "session.json", plan)
    write_json(HERE / "truth.json", truth(voice_events))


SETTINGS = {
    "Lead voice": {"role": "lead voice", "gain_db": -6.0, "pan": 0.0},
    "Fiddle": {"role": "strings", "gain_db": -5.0, "pan": 0.35},
    "Squeezebox": {"role": "reeds", "gain_db": -1.0, "pan": -0.25},
    "Guitar": {"role": "acoustic guitar", "gain_db": -6.0, "pan": 0.2},
    "Upright bass": {"role": "bass", "gain_db": -3.0, "pan": 0.0},
    "Cello": {"role": "strings", "gain_db": -7.0, "pan": -0.4},
    "Frame drum": {"role": "hand percussion", "gain_db": -6.0, "pan": -0.15},
    "Box drum": {"role": "kick", "gain_db": -4.0, "pan": 0.0},
    "Spoons": {"role": "hand percussion", "gain_db": -11.0, "pan": 0.5},
}


def truth(voice_events: list[dict[str, object]]) -> dict[str, object]:
    """Return what was planted where."""
    faults = [
        {
            "track": "Frame drum",
            "kind": "ring",
            "hz": 431.0,
            "ring_s": 0.85,
            "how": "decaying mode that strokes excite",
        },
        {"track": "Upright bass", "kind": "boom", "hz": 98.6, "ring_s": 0.55, "how": "room mode"},
        {
            "track": "Squeezebox",
            "kind": "whistle",
            "hz": 2_937.0,
            "ring_s": 0.09,
            "how": "mode near the overtones of some notes",
        },
        {
            "track": "Fiddle",
            "kind": "harsh",
            "low_hz": 2_600.0,
            "high_hz": 4_400.0,
            "how": "grows with loudness, up to 13 dB",
        },
        {"track": "Box drum", "kind": "boxy", "hz": 385.0, "q": 0.9, "excess_db": 8.5, "how": "steady hump"},
        *({"track": "Lead voice", **event} for event in voice_events),
        {
            "track": "all",
            "kind": "rumble",
            "high_hz": 62.0,
            "how": "level -41 dBFS; -50 dBFS on upright bass and box drum",
        },
    ]
    clashes = [
        {
            "tracks": ["Squeezebox", "Lead voice"],
            "low_hz": 350.0,
            "high_hz": 900.0,
            "how": "held chords in the voice's middle",
        },
        {"tracks": ["Cello", "Upright bass"], "low_hz": 65.0, "high_hz": 200.0, "how": "same octave, same roots"},
    ]
    return {"note": "Invented data: nothing here was recorded.", "faults": faults, "clashes": clashes}


def write_json(path: Path, data: object) -> None:
    """Write readable JSON."""
    path.write_text(json.dumps(data, indent=1) + "\n", encoding="utf-8")


if __name__ == "__main__":
    build()
