"""The survey on chords of sampled instruments, and the cellar on tracks whose lowest notes are known."""

import numpy as np
import pytest
from scipy.signal import butter, sosfilt

from mivlo.core.cellar import HIGHEST_CUT_HZ, CellarTrack, clear_the_cellar, low_end_of, pile_up
from mivlo.core.engine.source import ArraySource
from mivlo.core.errors import ParameterError
from mivlo.core.finder.survey import DEFAULT_AMOUNT, survey
from mivlo.core.finder.suspects import find
from mivlo.core.loudness import integrated_loudness

from .phrases import RATE, phrase

CHORDS = (
    (60, 64, 67),
    (57, 60, 64),
    (62, 65, 69),
    (55, 59, 62),
    (60, 65, 69),
    (59, 62, 67),
    (57, 62, 65),
    (60, 64, 67),
)
CLUTTER_HZ = np.array([367.0, 823.0, 1_510.0, 2_710.0])  # on no overtone of what is played


def chords(program: int) -> np.ndarray:
    voices = [phrase(program, notes, length_s=1.0)[0] for notes in zip(*CHORDS, strict=True)]
    n = min(voice.shape[1] for voice in voices)
    return sum(voice[:, :n] for voice in voices) / 3.0


def taken_db(cuts, freqs_hz: np.ndarray) -> np.ndarray:
    h = np.ones(len(freqs_hz), dtype=complex)
    for cut in cuts:
        h *= cut.move.response(freqs_hz, RATE)
    return 20.0 * np.log10(np.abs(h))


@pytest.mark.parametrize("program", [0, 24, 48, 40])  # piano, guitar, strings, violin
def test_a_survey_takes_clutter_and_leaves_chords_alone(program):
    clean = chords(program)
    whole = {"start": 0, "end": clean.shape[1], "sample_rate_hz": RATE}
    played = np.unique(
        [440.0 * 2.0 ** ((note - 69) / 12.0) * n for chord in CHORDS for note in chord for n in range(1, 13)]
    )
    left = taken_db(survey(ArraySource(clean), **whole).cuts, played[played < 9_000.0])
    assert np.mean(left < -1.5) <= 0.1
    t, level = np.arange(clean.shape[1]) / RATE, 0.25 * np.sqrt(np.mean(clean**2))
    wobble = [0.6 + 0.4 * np.sin(2 * np.pi * 0.9 * t + n) for n in range(4)]
    stray = level * sum(np.sin(2 * np.pi * hz * t + n) * wobble[n] for n, hz in enumerate(CLUTTER_HZ))
    cuts = survey(ArraySource(clean + stray), **whole).cuts
    assert taken_db(cuts, CLUTTER_HZ).max() < -4.0
    assert all(-6.0 <= cut.move.gain_db < 0.0 for cut in cuts)
    kept = survey(ArraySource(clean + stray), keepers=((350.0, 400.0),), **whole).cuts
    assert taken_db(kept, CLUTTER_HZ[:1])[0] > -1.0
    halved = survey(ArraySource(clean + stray), amount=DEFAULT_AMOUNT / 6.0, **whole).cuts
    assert taken_db(halved, CLUTTER_HZ).min() > taken_db(cuts, CLUTTER_HZ).min()


def test_a_survey_says_what_is_wrong_and_finds_nothing_in_silence():
    silence = ArraySource(np.zeros((1, RATE)))
    assert survey(silence, start=0, end=RATE, sample_rate_hz=RATE).cuts == ()
    for wrong in (
        {"amount": 120.0},
        {"low_hz": 500.0, "high_hz": 400.0},
        {"low_hz": 18_000.0, "high_hz": 20_000.0},
        {"end": 0},
    ):
        with pytest.raises(ParameterError):
            survey(silence, **({"start": 0, "end": RATE, "sample_rate_hz": RATE} | wrong))


def low(name: str, x: np.ndarray, role: str, end_frame: int = 6 * RATE) -> CellarTrack:
    end = low_end_of(ArraySource(x), start_frame=0, role=role, end_frame=end_frame, sample_rate_hz=RATE)
    return CellarTrack(name, end, role, 0.0)


def test_the_cellar_finds_lowest_notes_and_cuts_below_them():
    def rumble(seed: int) -> np.ndarray:
        x = np.cumsum(np.random.default_rng(seed).standard_normal(8 * RATE))
        x -= np.convolve(x, np.ones(4_001) / 4_001, "same")
        return 0.01 / np.std(x) * x

    def track(name: str, role: str, program: int, notes: tuple[int, ...]) -> CellarTrack:
        x = phrase(program, notes)[0][:, : 8 * RATE]
        return low(name, x + rumble(program)[: x.shape[1]], role)

    # Strokes of a shell at 180 Hz in as much rumble: a drum's lows are what its strokes bring.
    t = np.arange(8 * RATE) / RATE
    click = np.random.default_rng(3).standard_normal(len(t)) * np.exp(-(t % 0.6) / 0.01)
    strokes = 0.03 * np.sin(2 * np.pi * 180.0 * t) * np.exp(-(t % 0.6) / 0.08) + 0.01 * click

    tracks = [
        low("drum", (strokes + rumble(2))[None], "hand percussion"),
        track("fiddle", "strings", 40, (62, 64, 67, 69, 71, 74, 69, 67)),
        track("bass", "bass", 33, (38, 36, 33, 31, 33, 36, 38, 33)),
        track("keys", "keys", 0, (48, 52, 55, 60, 64, 60, 55, 52)),
        low("none", np.zeros((1, RATE)), "other"),
    ]
    cellar = clear_the_cellar(tracks, sample_rate_hz=RATE)
    by_name = {cut.track_id: cut for cut in cellar.tracks}
    for name, midi in (("fiddle", 62), ("bass", 31), ("keys", 48)):
        note_hz = 440.0 * 2.0 ** ((midi - 69) / 12.0)
        assert abs(1_200 * np.log2(by_name[name].lowest_note_hz / note_hz)) < 40
    assert 140 < by_name["drum"].lowest_note_hz < 185
    for cut, one in zip(cellar.tracks, tracks, strict=True):
        if cut.safe is not None:
            assert cut.safe.hz < cut.lowest_note_hz
            assert cut.in_the_mix.hz >= cut.safe.hz
            # Rules of thumb: common practice, no source.
            assert cut.in_the_mix.hz <= HIGHEST_CUT_HZ[one.role] + 0.1
    assert by_name["none"].safe is None
    assert by_name["none"].lowest_note_hz is None
    assert by_name["bass"].safe is None or by_name["bass"].safe.hz < 40
    # What is told to be lost is what scipy's Butterworth cuts take off the rumble there (with it lie the thumps of
    # the keys).
    rumbles = {"drum": rumble(2), "fiddle": rumble(40), "bass": rumble(33), "keys": rumble(0)}
    for chosen in (
        {cut.track_id: cut.safe for cut in cellar.tracks if cut.safe},
        {"fiddle": by_name["fiddle"].in_the_mix},
    ):
        before, after = np.zeros(6 * RATE), np.zeros(6 * RATE)
        for name, x in rumbles.items():
            below = butter(
                6, [29.0, max(by_name[name].lowest_note_hz * 2.0 ** (-3 / 12), 30.0)], "band", fs=RATE, output="sos"
            )
            x = sosfilt(below, x[: 6 * RATE])
            before += x
            if cut := chosen.get(name):
                x = sosfilt(butter(cut.slope_db_per_octave // 6, cut.hz, "high", fs=RATE, output="sos"), x)
            after += x
        lost_db = 20.0 * np.log10(np.std(before) / np.std(after))
        sums = pile_up(cellar, chosen)
        assert abs(sums.lost_db - lost_db) < 1.5, (sums.lost_db, lost_db)
        assert np.all(np.array(sums.left_db) <= np.array(sums.others_db) + 0.05)
    assert 1_200 * np.log2(sums.hz[int(np.argmax(sums.needed_db))] / 49.0) > -100  # the bass's, whose lowest note is G1
    assert pile_up(cellar, {}).lost_db == 0.0
    nothing = clear_the_cellar([], sample_rate_hz=RATE)
    assert nothing.tracks == ()
    assert pile_up(nothing, {}).lost_db == 0.0


@pytest.mark.parametrize(("program", "notes", "role"), [
    (0, (36, 40, 43, 48, 43, 40, 36, 41), "keys"), (42, (36, 43, 48, 41, 40, 38, 45, 50), "strings"),
    (24, (40, 45, 50, 55, 52, 47, 43, 45), "electric guitar"), (57, (40, 45, 50, 55, 52, 47, 43, 45), "brass"),
])  # fmt: skip
def test_a_cut_in_the_mix_loses_half_a_unit_of_loudness_at_most(program, notes, role):
    x = phrase(program, notes)[0]
    alone = low("alone", x, role, end_frame=x.shape[1])  # nothing hides it: all of it is heard
    (found,) = clear_the_cellar([alone], sample_rate_hz=RATE).tracks

    def lost_lu(hz: float) -> float:
        """By scipy's Butterworth and the loudness of BS.1770-4."""
        cut = sosfilt(butter(2, hz, "high", fs=RATE, output="sos"), x, axis=1)
        return integrated_loudness(x, sample_rate_hz=RATE) - integrated_loudness(cut, sample_rate_hz=RATE)

    assert found.in_the_mix.slope_db_per_octave == 12
    assert lost_lu(found.in_the_mix.hz) < 0.5
    assert lost_lu(found.in_the_mix.hz * 2.0**0.5) > 0.5  # half an octave more would be missed


@pytest.mark.parametrize("program", [24, 0])
def test_of_chords_own_notes_nothing_is_told_to_be_off_them(program):
    x = chords(program)
    notes = np.unique(np.array(CHORDS))
    own_hz = np.outer(440.0 * 2.0 ** ((notes - 69) / 12.0), np.arange(1, 9)).ravel()
    found = find(ArraySource(x), start=0, end=x.shape[1], sample_rate_hz=RATE).suspects
    near = [one for one in found if np.min(np.abs(1_200.0 * np.log2(own_hz / one.hz))) < 20.0]
    assert near
    assert all(one.follows_notes is not False for one in near)
