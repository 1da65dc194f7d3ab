"""The survey on chords of sampled instruments, and the cellar on tracks whose lowest notes are known."""

import numpy as np
import pytest

from mivlo.core.cellar import HIGHEST_CUT_HZ, CellarTrack, clear_the_cellar
from mivlo.core.engine.source import ArraySource
from mivlo.core.errors import ParameterError
from mivlo.core.finder.survey import DEFAULT_AMOUNT, survey

from .phrases import RATE, phrase

CHORDS = ((60, 64, 67), (57, 60, 64), (62, 65, 69), (55, 59, 62), (60, 65, 69), (59, 62, 67), (57, 62, 65), (60, 64, 67))
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
    played = np.unique([440.0 * 2.0 ** ((note - 69) / 12.0) * n for chord in CHORDS for note in chord for n in range(1, 13)])
    assert taken_db(survey(ArraySource(clean), **whole), played[played < 9_000.0]).min() > -1.0
    t, level = np.arange(clean.shape[1]) / RATE, 0.25 * np.sqrt(np.mean(clean**2))
    wobble = [0.6 + 0.4 * np.sin(2 * np.pi * 0.9 * t + n) for n in range(4)]
    stray = level * sum(np.sin(2 * np.pi * hz * t + n) * wobble[n] for n, hz in enumerate(CLUTTER_HZ))
    cuts = survey(ArraySource(clean + stray), **whole)
    assert taken_db(cuts, CLUTTER_HZ).max() < -4.0
    assert all(-8.0 <= cut.move.gain_db < 0.0 for cut in cuts)
    kept = survey(ArraySource(clean + stray), keepers=((350.0, 400.0),), **whole)
    assert taken_db(kept, CLUTTER_HZ[:1])[0] > -1.0
    halved = survey(ArraySource(clean + stray), amount=DEFAULT_AMOUNT / 6.0, **whole)
    assert taken_db(halved, CLUTTER_HZ).min() > taken_db(cuts, CLUTTER_HZ).min()


def test_a_survey_says_what_is_wrong_and_finds_nothing_in_silence():
    silence = ArraySource(np.zeros((1, RATE)))
    assert survey(silence, start=0, end=RATE, sample_rate_hz=RATE) == []
    for wrong in ({"amount": 120.0}, {"low_hz": 500.0, "high_hz": 400.0}, {"end": 0}):
        with pytest.raises(ParameterError):
            survey(silence, **({"start": 0, "end": RATE, "sample_rate_hz": RATE} | wrong))


def test_the_cellar_finds_lowest_notes_and_cuts_below_them():
    rumble = 0.003 * np.cumsum(np.random.default_rng(2).standard_normal(8 * RATE))
    rumble -= np.convolve(rumble, np.ones(4_001) / 4_001, "same")
    rumble *= 0.01 / np.std(rumble)

    def track(name: str, role: str, program: int, notes: tuple[int, ...]) -> CellarTrack:
        x = phrase(program, notes)[0]
        n = min(x.shape[1], len(rumble))
        return CellarTrack(name, ArraySource(x[:, :n] + rumble[:n]), 0, role, 0.0)

    # Strokes of a shell at 180 Hz in as much rumble: a drum's lows are what its strokes bring.
    t = np.arange(len(rumble)) / RATE
    click = np.random.default_rng(3).standard_normal(len(t)) * np.exp(-(t % 0.6) / 0.01)
    strokes = 0.03 * np.sin(2 * np.pi * 180.0 * t) * np.exp(-(t % 0.6) / 0.08) + 0.01 * click

    tracks = [
        CellarTrack("drum", ArraySource((strokes + rumble)[None]), 0, "hand percussion", 0.0),
        track("fiddle", "strings", 40, (62, 64, 67, 69, 71, 74, 69, 67)),
        track("bass", "bass", 33, (38, 36, 33, 31, 33, 36, 38, 33)),
        track("keys", "keys", 0, (48, 52, 55, 60, 64, 60, 55, 52)),
        CellarTrack("none", ArraySource(np.zeros((1, RATE))), 0, "other", 0.0),
    ]  # fmt: skip
    cellar = clear_the_cellar(tracks, end_frame=6 * RATE, sample_rate_hz=RATE)
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
    assert min(cellar.mix_gain_db, cellar.safe_gain_db) > 1.0
    assert clear_the_cellar([], end_frame=0, sample_rate_hz=RATE).tracks == ()
