"""The finder against physics with known answers, planted faults in sampled instruments, and the demo's truth file."""

import json
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
import soundfile
from scipy.signal import firwin, iirpeak, lfilter, oaconvolve, resample_poly
from scipy.special import jn_zeros

from mivlo.core.engine.render import render_moves
from mivlo.core.engine.source import ArraySource
from mivlo.core.errors import ParameterError
from mivlo.core.filters.matched import plain_bell
from mivlo.core.finder.band_cues import band_cues
from mivlo.core.finder.bells import bell_of
from mivlo.core.finder.describe import sentence, sureness
from mivlo.core.finder.events import find_events
from mivlo.core.finder.kinds import kind_of_hump, kind_of_line
from mivlo.core.finder.level_map import HOP_S, active_frames, level_map
from mivlo.core.finder.measures import cliff_hz, lowest_note_hz, ring_time_s, track_notes
from mivlo.core.finder.pins import answers_to_pin
from mivlo.core.finder.pitch_line import pitch_line
from mivlo.core.finder.places import places
from mivlo.core.finder.proposals import propose
from mivlo.core.finder.stretch import Findings
from mivlo.core.finder.suspects import find
from mivlo.core.finder.verify import BeforeAndAfter, measure_again
from mivlo.core.moves import MOVE_KINDS
from mivlo.core.spectra.average import AXIS_HZ, highest_near

from .phrases import RATE, phrase, pink

ROOT = Path(__file__).parents[2]
MELODY = (60, 64, 67, 62, 65, 69, 71, 67, 64, 60, 62, 66, 70, 68)
SEED = 4


def test_the_pitch_line_follows_one_voice_and_is_not_claimed_for_chords():
    seconds = np.arange(4 * RATE) / RATE
    hz = 220 * 2 ** (0.5 * np.sin(2 * np.pi * 0.4 * seconds))
    phase_of = 2 * np.pi * np.cumsum(hz) / RATE
    voice = sum(0.1 / n * np.sin(n * phase_of) for n in range(1, 12))
    line = pitch_line(ArraySource(voice[None]), start=0, end=len(voice), sample_rate_hz=RATE)
    off = 1_200 * np.log2(line.hz / np.interp(line.times_s, seconds, hz))
    assert line.one_voice
    assert np.nanmedian(np.abs(off)) < 12
    assert np.nanpercentile(np.abs(off), 90) < 25
    chords = sum(
        0.05 / n * np.sin(2 * np.pi * n * f * seconds) for n in range(1, 9) for f in (146.8, 220.0, 277.2, 349.2)
    )
    assert not pitch_line(ArraySource(chords[None]), start=0, end=len(chords), sample_rate_hz=RATE).one_voice


def biquad(x: np.ndarray, hz: float, gain_db: float, q: float) -> np.ndarray:
    s = plain_bell(hz, gain_db, q, sample_rate_hz=RATE)
    return lfilter([s.b0, s.b1, s.b2], [1.0, s.a1, s.a2], x, axis=1)


def found_in(x: np.ndarray, **limits):
    return find(ArraySource(x), start=0, end=x.shape[1], sample_rate_hz=RATE, **limits).suspects


def demo_track(name: str) -> np.ndarray:
    samples, _ = soundfile.read(ROOT / "demo" / "tracks" / f"{name}.flac", always_2d=True)
    return np.ascontiguousarray(samples.T)


def strokes(modes: list[tuple[float, float, float]], seconds: float = 8.0, every: float = 0.5) -> np.ndarray:
    """Return strokes of decaying modes (hz, level, T60)."""
    random, t = np.random.default_rng(SEED), np.arange(round(1.5 * RATE)) / RATE
    x = np.zeros(round((seconds + 2) * RATE))
    for at in np.arange(0.1, seconds, every):
        sound = 0.05 * random.standard_normal(len(t)) * np.exp(-t / 0.01)
        for hz, level, t60 in modes:
            tone = np.sin(2 * np.pi * hz * t + random.uniform(0, 6)) * 10 ** (-3 * t / t60)
            sound = sound + level * random.uniform(0.7, 1.3) * tone
        start = round(at * RATE)
        x[start : start + len(t)] += sound
    return 0.1 * x[None, : round(seconds * RATE)]


def test_levels_read_a_sine_and_place_a_click():
    t = np.arange(2 * RATE) / RATE
    for hz in (60.0, 300.0, 740.0, 2_000.0, 9_000.0):
        levels = level_map(
            ArraySource(0.5 * np.sin(2 * np.pi * hz * t)[None]), start=0, end=2 * RATE, sample_rate_hz=RATE
        )
        middle = levels.levels_db[20:-20].mean(axis=0)
        assert abs(1_200 * np.log2(levels.hz[middle.argmax()] / hz)) <= 20  # one band
        assert middle.max() == pytest.approx(-6.02, abs=0.7)  # half of full scale; up to half a band beside its middle
    click = np.zeros((1, 2 * RATE))
    click[0, RATE] = 1.0
    levels = level_map(ArraySource(click), start=0, end=2 * RATE, sample_rate_hz=RATE)
    for hz in (200.0, 6_000.0):
        band = int(np.argmin(np.abs(levels.hz - hz)))
        assert levels.times_s[levels.levels_db[:, band].argmax()] == pytest.approx(1.0, abs=HOP_S)


def test_a_stretch_looks_the_same_in_pieces_and_at_twice_the_rate():
    x = pink(30.0)  # longer than what is read at a time
    source = ArraySource(x)
    whole = level_map(source, start=0, end=x.shape[1], sample_rate_hz=RATE)
    part = level_map(source, start=400 * 1024, end=x.shape[1], sample_rate_hz=RATE)
    assert np.allclose(part.levels_db[20:-20], whole.levels_db[420 : 420 + len(part.levels_db) - 40], atol=1e-3)
    assert part.times_s[0] == pytest.approx(400 * 1024 / RATE)
    t = np.arange(8 * RATE) / (2 * RATE)
    double = level_map(
        ArraySource(0.5 * np.sin(2 * np.pi * 740 * t)[None]), start=0, end=8 * RATE, sample_rate_hz=2 * RATE
    )
    assert double.levels_db[20:-20].max() == pytest.approx(-6.02, abs=0.7)
    assert band_cues(level_map(ArraySource(np.zeros((1, RATE))), start=0, end=RATE, sample_rate_hz=RATE)) is None


@pytest.mark.filterwarnings("error")
def test_where_a_sound_was_cut_off_is_no_line_and_a_line_below_it_still_is():
    # As codecs and lower rates leave it: a steep edge, and nothing above.
    edge = firwin(801, 8_000.0, fs=RATE)
    cut_off = oaconvolve(pink(6.0), edge[None], axes=1)[:, 400:-400]
    assert not [one for one in found_in(cut_off) if one.hz > 6_500]
    ringing = found_in(biquad(cut_off, 3_100.0, 14.0, 25.0))
    assert ringing[0].hz == pytest.approx(3_100.0, rel=0.01)
    melody, _ = phrase(73, MELODY)
    low_rate = resample_poly(melody, 1, 3, axis=1)
    found = find(ArraySource(low_rate), start=0, end=low_rate.shape[1], sample_rate_hz=RATE / 3).suspects
    assert not [one for one in found if one.hz > 0.42 * RATE / 3]
    # A flute fades out by itself: nothing is taken for an edge there.
    for samples, rate, ends in ((melody, RATE, False), (cut_off, RATE, True)):
        levels = level_map(ArraySource(samples), start=0, end=samples.shape[1], sample_rate_hz=rate)
        assert np.isfinite(cliff_hz(levels, band_cues(levels).active)) == ends
    assert find(ArraySource(np.zeros((2, 3 * RATE))), start=0, end=3 * RATE, sample_rate_hz=RATE) == Findings((), ())
    seconds = np.arange(4 * RATE) / RATE
    held = np.stack([0.1 * np.sin(2 * np.pi * 1_000 * seconds), np.full(4 * RATE, 0.1), 1.0 * (seconds == 1.0)])
    for samples in held:  # a held tone, an offset, a click: whatever is told of them, it is not sure
        assert not [one for one in found_in(samples[None]) if one.confidence > 0.5]


def test_the_ring_time_of_a_resonator_is_that_of_its_q():
    # T60 = ln(1000)·Q/(pi·f0), references 5.8: algebra, checked there with scipy's iirpeak and a Schroeder fit.
    for hz, q in ((200.0, 30.0), (431.0, 60.0), (3_000.0, 60.0)):
        b, a = iirpeak(hz, q, fs=RATE)
        impulses = np.zeros(6 * RATE)
        impulses[:: RATE // 2] = 1.0
        x = lfilter(b, a, impulses)[None]
        assert ring_time_s(ArraySource(x), hz, q, start=0, end=6 * RATE, sample_rate_hz=RATE) == pytest.approx(
            np.log(1_000) * q / (np.pi * hz), rel=0.1
        )
    steady = np.sin(2 * np.pi * 440 * np.arange(4 * RATE) / RATE)[None]
    assert ring_time_s(ArraySource(steady), 440, 10, start=0, end=4 * RATE, sample_rate_hz=RATE) is None


def test_a_shell_that_rings_over_a_membrane_is_found_and_the_membrane_is_not():
    # Modes of a circular membrane, references 5.5: zeros of Bessel functions over the first.
    ratios = np.sort(np.concatenate([jn_zeros(order, 3) for order in range(6)]))[:8] / jn_zeros(0, 1)[0]
    skin = [(110.0 * ratio, 1.0 / (1 + n), 0.25) for n, ratio in enumerate(ratios)]
    drum = "hand percussion"
    assert sum(suspect.confidence > 0.5 for suspect in found_in(strokes(skin), role=drum)) <= 1
    first = found_in(strokes([*skin, (431.0, 0.5, 0.9)]), role=drum)[0]
    assert abs(1_200 * np.log2(first.hz / 431.0)) < 20
    assert first.kind == "ring"
    assert first.ring_s == pytest.approx(0.9, rel=0.2)
    assert first.behaviour == "steady"


def test_mains_hum_under_a_bass_line_is_one_family_and_the_bass_alone_has_none():
    bass, _ = phrase(33, (31, 33, 35, 36, 31, 38, 36, 35, 33, 31, 43, 38))  # G1 is 49 Hz, B1 61.7 Hz
    t = np.arange(bass.shape[1]) / RATE
    hum = 0.002 * sum(np.sin(2 * np.pi * 50.0 * n * t + n) / n**0.5 for n in range(1, 8))
    assert not [one for one in found_in(bass, role="bass") if one.kind == "hum"]
    noise = 1e-5 * np.random.default_rng(1).standard_normal(bass.shape)
    told = [one for one in found_in(bass + hum + noise) if one.kind == "hum"]
    assert [one.hz for one in told] == [50.0]
    assert told[0].move.kind == "note-family"
    assert {3, 5, 7} <= {round(hz / 50.0) for hz in told[0].move.member_hz()}


@pytest.mark.parametrize("program", [0, 40, 56, 73])
def test_a_planted_line_is_named_and_the_clean_phrase_is_not_accused(program):
    clean, _ = phrase(program, MELODY)
    assert sum(suspect.confidence > 0.5 for suspect in found_in(clean)) <= 1
    hz = 1_130.0  # between the notes
    suspects = found_in(biquad(clean, hz, 13.0, 20.0))
    near = [suspect for suspect in suspects[:5] if abs(1_200 * np.log2(suspect.hz / hz)) <= 60]
    assert near
    assert near[0].move.kind in MOVE_KINDS
    assert -8.0 <= near[0].move.gain_db < 0.0  # never deeper by itself; common practice, no source
    kept = found_in(biquad(clean, hz, 13.0, 20.0), keepers=((1_000.0, 1_300.0),))
    assert not any(1_000 <= suspect.hz <= 1_300 for suspect in kept)
    outside = found_in(biquad(clean, hz, 13.0, 20.0), low_hz=2_000.0, high_hz=4_000.0)
    assert all(2_000 <= suspect.hz <= 4_000 for suspect in outside)


def test_every_planted_fault_of_the_demo_is_found_with_its_word():
    truth = json.loads((ROOT / "demo" / "truth.json").read_text())["faults"]
    drum = "hand percussion"
    roles = {"Frame drum": drum, "Upright bass": "bass", "Squeezebox": "reeds", "Fiddle": "strings", "Box drum": drum}
    for fault in truth:
        if fault["track"] not in roles:
            continue
        suspects = found_in(demo_track(fault["track"].lower().replace(" ", "-")), role=roles[fault["track"]])[:5]
        hz = fault.get("hz") or np.sqrt(fault["low_hz"] * fault["high_hz"])
        reach = 60 if "ring_s" in fault else 400
        hits = [one for one in suspects if abs(1_200 * np.log2(one.hz / hz)) <= reach and one.kind == fault["kind"]]
        assert hits, (fault, [(one.kind, round(one.hz), round(one.confidence, 2)) for one in suspects])
        if fault["track"] in ("Frame drum", "Upright bass", "Fiddle"):
            assert hits[0] is suspects[0]


def test_the_events_of_the_demo_voice_are_found_within_30_ms():
    truth = [
        f for f in json.loads((ROOT / "demo" / "truth.json").read_text())["faults"] if f.get("track") == "Lead voice"
    ]
    voice = demo_track("lead-voice")
    events = find_events(ArraySource(voice), start=0, end=voice.shape[1], sample_rate_hz=RATE)
    for kind in ("plosive", "sibilance"):
        wanted, told = [f for f in truth if f["kind"] == kind], [e for e in events if e.kind == kind]
        hit = sum(any(abs(e.start_s - f["start_s"]) <= 0.03 for e in told) for f in wanted)
        assert hit >= 0.9 * len(wanted)
        assert len(told) <= 1.1 * len(wanted)
    # A low sung note with a slow onset is no plosive; a cymbal's stroke is no sibilant.
    t = np.arange(3 * RATE) / RATE
    sung = (
        sum(np.sin(2 * np.pi * 90 * h * t) / h for h in range(1, 20))
        * np.clip((t % 1.0) / 0.06, 0, 1)
        * (t % 1.0 < 0.8)
    )
    assert find_events(ArraySource(0.1 * sung[None]), start=0, end=3 * RATE, sample_rate_hz=RATE) == []


@pytest.mark.parametrize(
    ("hz", "q", "wide"),
    [(160.0, 8.0, False), (160.0, 40.0, False), (500.0, 20.0, False), (1_810.0, 40.0, False), (6_000.0, 12.0, False),
     (300.0, 1.0, True), (700.0, 2.0, True), (3_500.0, 1.5, True)],
)  # fmt: skip
def test_a_planted_bell_reads_its_gain_and_q(hz: float, q: float, wide: bool):
    for gain_db in (5.0, 8.0) if wide else (8.0, 14.0):
        x = biquad(pink(12.0), hz, gain_db, q)
        levels = level_map(ArraySource(x), start=0, end=x.shape[1], sample_rate_hz=RATE)
        read = bell_of(levels, active_frames(levels), hz, wide=wide, when_loud=False)
        assert read.gain_db == pytest.approx(gain_db, abs=1.5)  # definitions
        assert abs(np.log2(read.q / q)) < 0.5


def cure_of(before: ArraySource, after: np.ndarray | ArraySource, *, sample_rate_hz: float, **figures):
    after = after if isinstance(after, ArraySource) else ArraySource(after)
    return measure_again(BeforeAndAfter(before, after, sample_rate_hz=sample_rate_hz), **figures)


def test_a_cure_is_measured_by_level_and_decay():
    clean = pink(6.0)
    ringing = biquad(clean, 900.0, 12.0, 20.0)
    stretch = {"times": (), "start": 0, "end": clean.shape[1], "sample_rate_hz": RATE}
    tones = {"kind": "ring", "behaviour": "steady", "hz": 900.0, "q": 20.0, **stretch}
    undone = cure_of(ArraySource(ringing), biquad(ringing, 900.0, -12.0, 20.0), **tones)
    assert undone.verdict == "cured"
    assert undone.excess_before_db == pytest.approx(12.0, abs=1.5)  # definitions: a bell of +G reads G within 1.5 dB
    assert undone.excess_after_db < 1.5
    half = cure_of(ArraySource(ringing), biquad(ringing, 900.0, -5.0, 20.0), **tones)
    assert half.verdict == "better"
    beside = cure_of(ArraySource(ringing), biquad(ringing, 2_000.0, -12.0, 20.0), **tones)
    assert beside.verdict == "not yet"
    assert beside.region_lost < 0.01
    hollow = cure_of(ArraySource(ringing), biquad(ringing, 900.0, -24.0, 0.7), **tones)
    assert hollow.region_lost > 0.5 > undone.region_lost
    # A hump that is there when it is loud is measured in the loud moments; to take it away takes nothing of the
    # track's own.
    soft_then_loud = np.concatenate([0.1 * clean, biquad(clean, 900.0, 9.0, 1.0)], axis=1)
    source, tamed = ArraySource(soft_then_loud), np.concatenate([0.1 * clean, clean], axis=1)
    hump = {**tones, "kind": "harsh", "behaviour": "when-loud", "q": 1.0, "end": soft_then_loud.shape[1]}
    loud = cure_of(source, tamed, **hump)
    assert loud.excess_before_db == pytest.approx(9.0, abs=1.5)
    assert (loud.verdict, loud.over_cut) == ("cured", False)
    assert cure_of(source, biquad(tamed, 900.0, -12.0, 1.0), **hump).over_cut


def test_what_tames_a_fault_takes_it_while_it_sounds_and_leaves_the_rest():
    seconds, every = 12, 1.5
    loud = (np.arange(seconds * RATE) / RATE) % (2 * every) < every
    clean = pink(float(seconds)) * np.where(loud, 0.5, 0.1)
    faulty = np.where(loud, biquad(clean, 3_200.0, 8.0, 2.0), clean)
    source = ArraySource(faulty)
    times = tuple((at, at + every) for at in np.arange(0.0, seconds, 2 * every))
    stretch = {"start": 0, "end": source.n_frames, "sample_rate_hz": RATE}
    suspected = propose(source, hz=3_200.0, q=2.0, excess_db=8.0, times=times, **stretch).tame
    pinned = answers_to_pin(source, hz=3_200.0, width_octaves=0.7, excess_db=8.0, sample_rate_hz=RATE).tame
    for move, least_db, most_db in (
        (suspected, 7.0, 8.1),
        (pinned, 4.5, 6.1),
    ):  # nobody has said when a pin's fault sounds
        treated = np.concatenate(list(render_moves(source, [move], sample_rate_hz=RATE)), axis=1)
        maps = [level_map(ArraySource(x), **stretch) for x in (faulty, treated)]
        band = int(np.argmin(np.abs(np.log2(maps[0].hz / 3_200.0))))
        taken_db = (maps[0].levels_db - maps[1].levels_db)[:, band]
        into = maps[0].times_s % (2 * every)
        assert least_db < np.mean(taken_db[(into > 0.2) & (into < every - 0.1)]) < most_db
        assert np.mean(taken_db[(into > every + 0.4) & (into < 2 * every - 0.1)]) < 0.5


def test_bursts_are_cured_when_few_are_still_told_and_hum_by_what_is_left_in_the_pauses():
    voice, rate = soundfile.read(ROOT / "demo" / "tracks" / "lead-voice.flac", always_2d=True)
    source = ArraySource(voice.T.copy())
    stretch = {"start": 0, "end": source.n_frames, "sample_rate_hz": rate}
    suspects = find(source, role="lead voice", **stretch).suspects
    for kind, needed in (("plosive", 1), ("sibilance", 2)):  # how often its own proposal has to be applied
        suspect = next(one for one in suspects if one.kind == kind)
        figures = {
            "kind": kind,
            "hz": suspect.hz,
            "q": suspect.q,
            "behaviour": "burst",
            "times": suspect.times,
            **stretch,
        }
        moves = [suspect.proposals.tame] * needed
        treated = np.concatenate(list(render_moves(source, moves, sample_rate_hz=rate)), axis=1)
        cure = cure_of(source, treated, **figures)
        assert (cure.verdict, cure.over_cut) == ("cured", False)
        left = [event for event in find_events(ArraySource(treated), **stretch) if event.kind == kind]
        assert len(left) <= 0.2 * len(suspect.times)
        assert cure_of(source, source, **figures).verdict == "not yet"
    t = np.arange(8 * RATE) / RATE
    hum = 0.01 * sum(np.sin(2 * np.pi * 50.0 * n * t) / n for n in range(1, 7))
    notes = 0.2 * np.sin(2 * np.pi * 330.0 * t) * (t % 2.0 < 1.2)
    x = (hum + notes + 1e-4 * np.random.default_rng(3).standard_normal(len(t)))[None]
    stretch = {"start": 0, "end": x.shape[1], "sample_rate_hz": RATE}
    suspect = next(one for one in find(ArraySource(x), **stretch).suspects if one.kind == "hum")
    figures = {"kind": "hum", "hz": suspect.hz, "q": suspect.q, "behaviour": "steady", "times": (), **stretch}
    assert cure_of(ArraySource(x), x - hum, **figures).verdict == "cured"
    assert cure_of(ArraySource(x), x, **figures).verdict == "not yet"


def test_the_command_line_prints_what_the_core_finds(tmp_path):
    x = biquad(phrase(40, MELODY)[0], 1_130.0, 13.0, 20.0)
    soundfile.write(tmp_path / "fiddle.wav", 0.3 * x.T / np.abs(x).max(), RATE, subtype="PCM_24")

    def run(*arguments: str) -> subprocess.CompletedProcess[str]:
        command = [sys.executable, "-m", "mivlo", "find", str(tmp_path / "fiddle.wav"), *arguments]
        return subprocess.run(command, capture_output=True, text=True, check=False)

    told = json.loads(run("--json", "--role", "strings", "--to", "6").stdout)
    assert set(told) == {"suspects", "events"}
    confidences = [suspect["confidence"] for suspect in told["suspects"]]
    assert confidences == sorted(confidences, reverse=True)
    for suspect in told["suspects"]:
        assert {"hz", "q", "excess_db", "ring_s", "confidence", "kind", "behaviour", "times", "move"} <= set(suspect)
        MOVE_KINDS[suspect["move"]["kind"]].model_validate(suspect["move"])
        assert all(0.0 <= a < b <= 6.1 for a, b in suspect["times"])
    assert any(abs(1_200 * np.log2(suspect["hz"] / 1_130)) < 60 for suspect in told["suspects"][:5])
    refusals = {
        ("--role", "kazoo"): "must be one of", ("--from", "9", "--to", "3"): "must lie within",
        ("--low", "500", "--high", "100"): "below high_hz",
    }  # fmt: skip
    for arguments, words in refusals.items():
        refused = run(*arguments)
        assert refused.returncode == 2
        assert words in refused.stderr
    with pytest.raises(ParameterError, match="empty"):
        find(ArraySource(x), start=10, end=10, sample_rate_hz=RATE)


def test_the_weights_were_fitted_to_the_cues_that_there_are():
    x = strokes([(110.0, 1.0, 0.2)])
    cues = band_cues(level_map(ArraySource(x), start=0, end=x.shape[1], sample_rate_hz=RATE))
    with np.load(ROOT / "src" / "mivlo" / "core" / "finder" / "weights.npz") as weights:
        assert tuple(weights["names"]) == cues.names


def test_a_hump_may_lie_at_the_shoulder_of_its_odds_and_a_line_only_at_a_top():
    bands = np.arange(544)

    def hill(at, height, wide):
        return height * np.exp(-0.5 * ((bands - at) / wide) ** 2)

    odds = hill(250, 0.3, 18.0) + hill(290, 0.06, 18.0)
    assert np.all(np.diff(odds[np.argmax(odds) :]) <= 0.0)  # no second top
    found = places(odds, "hump")
    assert abs(found[0][0] - 250) <= 10
    assert found[0][1] == odds.max() > found[1][1]
    assert abs(found[1][0] - 290) <= 20  # a third of an octave
    gaps = np.diff(np.sort([band for band, _ in found]))
    assert gaps.min() > 30  # half an octave
    assert [band for band, _ in places(odds, "harsh")] == [found[0][0]]
    assert [band for band, _ in places(odds, "line")] == [int(np.argmax(odds))]
    assert (
        places(odds, "hump", bands > 260)[0] == found[1]
    )  # what may not be accused hides nobody else, and is not replaced
    assert places(0.002 * odds, "hump") == []


def test_evidence_is_said_in_words():
    first = found_in(strokes([(110.0, 1.0, 0.2), (431.0, 0.5, 0.9)]))[0]
    assert "431 Hz" in sentence(first)
    assert [sureness(p) for p in (0.9, 0.6, 0.3, 0.15, 0.05)] == [
        "almost certain",
        "likely",
        "possible",
        "a guess",
        "barely",
    ]


def test_a_pin_is_answered_as_deep_as_it_stood_out_within_reason():
    # Common practice, no source: cuts of 3 to 6 dB, seldom above 8; a plain ring up to 12.
    drum = ArraySource(strokes([(110.0, 1.0, 0.2), (431.0, 0.5, 0.9)]))
    asked = {"source": drum, "sample_rate_hz": RATE}
    depths = [
        answers_to_pin(**asked, hz=431.0, width_octaves=0.25, excess_db=db).cut.gain_db for db in (9.4, 30.0, 1.0, None)
    ]
    assert depths == [-9.0, -12.0, -3.0, -6.0]
    answers = answers_to_pin(**asked, hz=5_000.0, width_octaves=1.0, excess_db=8.0)
    assert answers.keeper.high_hz / answers.keeper.low_hz == pytest.approx(2.0)
    assert answers.cut.q == pytest.approx(np.sqrt(2.0))  # a bell of one octave: Q 1.414 (references 1.8)
    assert (answers.tame.kind, answers.tame.hz) == ("dynamic-bell", 5_000.0)
    standing = np.zeros(len(AXIS_HZ))
    standing[100] = 7.0
    assert np.flatnonzero(highest_near(standing)).tolist() == [98, 99, 100, 101, 102]  # half a note


def test_the_word_for_a_fault_goes_by_place_track_and_notes():
    # The regions of job.md: common practice, no source.
    assert [kind_of_hump(hz) for hz in (100, 200, 400, 900, 2_000, 4_000)] == [
        "boom",
        "mud",
        "boxy",
        "honk",
        "harsh",
        "harsh",
    ]
    assert kind_of_hump(1_400, role="kick") == "papery"
    assert kind_of_hump(4_000, role="electric guitar", is_haze=True) == "fizz"
    assert [kind_of_line(hz) for hz in (90, 431, 2_937)] == ["boom", "ring", "whistle"]
    assert [kind_of_line(60, lowest_note_hz=low) for low in (None, 70.0, 196.0)] == ["boom", "boom", "rumble"]
    fiddle, _ = phrase(40, MELODY)
    levels = level_map(ArraySource(fiddle), start=0, end=fiddle.shape[1], sample_rate_hz=RATE)
    lowest = lowest_note_hz(levels, track_notes(levels, band_cues(levels).active))
    assert lowest == pytest.approx(261.6, rel=0.03)  # C4, the lowest of the melody
    # A hump of noise is haze, of notes it is not; on something struck it is paper.
    wide = found_in(biquad(pink(8.0), 3_000.0, 10.0, 0.9))[0]
    assert (wide.kind, 2_200 < wide.hz < 4_000) == ("fizz", True)
    assert found_in(biquad(pink(8.0), 1_400.0, 10.0, 0.9), role="kick")[0].kind == "papery"
    assert all(one.kind != "fizz" for one in found_in(biquad(fiddle, 3_200.0, 9.0, 1.0)))
