"""What places do to whatever passes them: the curve, and what a plane and a survey learn from it.

Sampled instruments of Debian's small bank, on which nothing here was chosen; equalizers, lines and rooms of known shape
are laid over them by scipy's filters. The figures are those that the project has set itself; bench/places.py measures
the same over all test banks.
"""

import json
from functools import lru_cache

import numpy as np
import pytest
import soundfile
from scipy.signal import lfilter

from mivlo.core.engine.render import render_moves
from mivlo.core.engine.source import ArraySource
from mivlo.core.errors import ParameterError
from mivlo.core.filters.biquad import frequency_response
from mivlo.core.filters.matched import plain_bell
from mivlo.core.finder.learning import learn, places_of
from mivlo.core.finder.place_curve import SURE, place_curve
from mivlo.core.finder.survey import survey
from mivlo.core.moves.plane import Plane
from tests.core.phrases import RATE, phrase, pink
from tests.core.test_files import mivlo

Bell = tuple[float, float, float]  # hz, gain_db, q
MELODY = (60, 64, 67, 62, 65, 69, 71, 67, 64, 60, 62, 66, 70, 68, 61, 63)
PROGRAMS = (0, 4, 6, 11, 16, 21, 22, 24, 25, 27, 29, 40, 42, 48, 52, 56, 57, 65, 71, 73)


@lru_cache(maxsize=len(PROGRAMS))
def played(program: int) -> np.ndarray:
    samples = phrase(program, MELODY)[0].mean(axis=0, keepdims=True)
    return 0.25 * samples / np.abs(samples).max()


def through(x: np.ndarray, bells: list[Bell]) -> np.ndarray:
    for hz, gain_db, q in bells:
        s = plain_bell(hz, gain_db, q, sample_rate_hz=RATE)
        x = lfilter([s.b0, s.b1, s.b2], [1.0, s.a1, s.a2], x, axis=1)
    return x


def bells_db(bells: list[Bell], freqs_hz: np.ndarray) -> np.ndarray:
    sections = [plain_bell(hz, gain_db, q, sample_rate_hz=RATE) for hz, gain_db, q in bells]
    return 20.0 * np.log10(np.abs(frequency_response(sections, freqs_hz, sample_rate_hz=RATE)))


def drawn(seed: tuple[int, ...], low_hz: float, high_hz: float, gains_db, qs) -> Bell:
    random = np.random.default_rng(seed)
    hz, q = (float(np.exp(random.uniform(*np.log(limits)))) for limits in ((low_hz, high_hz), qs))
    return hz, float(random.uniform(*gains_db)) * float(random.choice((-1, 1)) if gains_db[0] < 7 else 1), q


def curve_of(x: np.ndarray):
    return place_curve(ArraySource(x), start=0, end=x.shape[1], sample_rate_hz=RATE)


def learned(x: np.ndarray, **figures) -> Plane:
    found = learn(ArraySource(x), start=0, end=x.shape[1], sample_rate_hz=RATE, low_hz=600.0, high_hz=10_000.0)
    hz = found.levels.hz
    return Plane(
        places=places_of(hz, found.added_db), loud_places=places_of(hz, found.loud_db),
        loud_from_db=float(np.clip(found.loud_from_db, -90.0, 0.0)), **figures,
    )  # fmt: skip


def levels_db(x: np.ndarray) -> np.ndarray:
    """Return (frames, bins) of windows of 4096 frames every 1024, the channels' powers averaged."""
    windows = np.lib.stride_tricks.sliding_window_view(x, 4_096, axis=1)[:, ::1_024] * np.hanning(4_096)
    return 10.0 * np.log10(np.mean(np.abs(np.fft.rfft(windows, axis=2)) ** 2, axis=0) + 1e-12)


FREQS_HZ = np.maximum(np.fft.rfftfreq(4_096, 1 / RATE), 1.0)


def away_db(x: np.ndarray, twin: np.ndarray, part: np.ndarray) -> float:
    """Return the mean distance of x from its twin in part of the bins, where the twin is within 60 dB of its top."""
    one, other = levels_db(x), levels_db(twin)
    heard = other > other.max() - 60.0
    return float(np.abs(one - other)[:, part][heard[:, part]].mean())


def run(x: np.ndarray, *moves) -> np.ndarray:
    return np.concatenate(list(render_moves(ArraySource(x), moves, sample_rate_hz=RATE)), axis=1)


def test_an_equalizer_is_the_difference_that_it_makes_to_the_curve():
    errors, likenesses = [], []
    for program in PROGRAMS:
        dry = curve_of(played(program))
        for turn in range(3):
            bells = [drawn((program, turn, n), 200.0, 9_000.0, (6.0, 12.0), (2.0, 30.0)) for n in range(3)]
            wet = curve_of(through(played(program), bells))
            sure = (np.minimum(dry.sure, wet.sure) >= SURE) & (dry.hz > 300.0) & (dry.hz < 8_000.0)
            if sure.sum() > 20:
                truth, seen = bells_db(bells, dry.hz)[sure], (wet.db - dry.db)[sure]
                errors.append(float(np.sqrt(np.mean((seen - truth) ** 2))))
                likenesses.append(float(np.corrcoef(seen, truth)[0, 1]))
    assert len(errors) > 40
    assert np.median(errors) < 2.5
    assert np.median(likenesses) > 0.7


def test_two_halves_of_a_track_have_the_same_curve():
    apart = []
    for program in PROGRAMS:
        x = played(program)
        one, other = (curve_of(half) for half in np.array_split(x, 2, axis=1))
        sure = (np.minimum(one.sure, other.sure) >= 0.5) & (one.hz > 300.0) & (one.hz < 8_000.0)
        if sure.sum() > 20:
            apart.append(float(np.sqrt(np.mean((one.db - other.db)[sure] ** 2))))
    assert len(apart) > 8
    assert np.median(apart) < 2.0


def test_the_curve_hangs_on_no_level_and_says_where_it_cannot_know():
    x = played(40)
    whole, quiet = curve_of(x), curve_of(0.05 * x)
    assert np.abs(whole.db - quiet.db).max() < 0.2
    held = phrase(16, (60,), length_s=6.0)[0]  # an organ that holds one note
    assert curve_of(held).sure.max() < SURE
    bell = [(2_000.0, 9.0, 3.0)]
    noise = curve_of(through(pink(8.0), bell))
    at = np.argmin(np.abs(noise.hz - 2_000.0))
    assert noise.sure[at] > SURE
    assert 5.5 < noise.db[at] < 9.5  # some of so wide a hump passes for the sound's own outline
    silence = curve_of(np.zeros((1, RATE)))
    assert not silence.sure.any()
    assert not silence.db.any()
    with pytest.raises(ParameterError, match="empty"):
        place_curve(ArraySource(x), start=5, end=5, sample_rate_hz=RATE)


def test_a_learnt_plane_takes_planted_lines_out_and_leaves_clean_twins_alone():
    taken, changed = [], []
    region = (FREQS_HZ > 600.0) & (FREQS_HZ < 10_000.0)
    for program in PROGRAMS:
        x = played(program)
        changed.append(away_db(run(x, learned(x)), x, region))
        for turn in range(2):
            line = drawn((program, turn, 9), 600.0, 6_000.0, (7.0, 14.0), (8.0, 30.0))
            y, near = through(x, [line]), np.abs(np.log2(FREQS_HZ / line[0])) < 1 / 6
            before = away_db(y, x, near)
            if before > 0.5:
                taken.append(1.0 - away_db(run(y, learned(y)), x, near) / before)
    assert np.median(taken) >= 0.35
    assert np.mean(np.array(taken) < -0.02) <= 0.05
    assert np.mean(changed) <= 0.35


def test_what_is_harsh_only_when_loud_is_cut_only_then():
    taken = []
    for program in (21, 40, 48, 56, 65, 71):
        x = played(program)
        t = np.arange(x.shape[1]) / RATE
        swell = 0.5 + 0.5 * np.sin(2 * np.pi * 0.4 * t)
        swelling, loud = x * (0.4 + 0.6 * swell), np.clip(4.0 * (swell - 0.5), 0.0, 1.0)  # 8 dB from soft to loud
        hz, gain_db, q = drawn((program, 3), 2_500.0, 5_000.0, (8.0, 12.0), (1.0, 3.0))
        y = swelling + loud * (through(swelling, [(hz, gain_db, q)]) - swelling)
        near = np.abs(np.log2(FREQS_HZ / hz)) < 1 / 3
        taken.append(1.0 - away_db(run(y, learned(y)), swelling, near) / away_db(y, swelling, near))
    assert np.median(taken) >= 0.4


@pytest.mark.parametrize("program", [24, 0])
def test_a_learnt_plane_keeps_attacks_as_they_are(program):
    x, notes = phrase(program, MELODY)
    y = run(x, learned(x))
    for start_s, _, _ in notes:
        part = slice(round((start_s - 0.005) * RATE), round((start_s + 0.06) * RATE))
        crest = [20 * np.log10(np.max(np.abs(s[:, part])) / np.sqrt(np.mean(s[:, part] ** 2))) for s in (x, y)]
        assert abs(crest[1] - crest[0]) < 0.5


def test_places_are_cut_by_what_they_add_and_no_more_and_kept_ones_not_at_all():
    noise = pink(4.0)
    lifted = through(noise, [(2_000.0, 6.0, 4.0)])
    shape_hz = 2_000.0 * 2.0 ** np.linspace(-1.5, 1.5, 61)
    added = np.maximum(bells_db([(2_000.0, 6.0, 4.0)], shape_hz), 0.0)
    plane = Plane(places=tuple(zip(shape_hz.tolist(), added.tolist(), strict=True)))
    near = np.abs(np.log2(FREQS_HZ / 2_000.0)) < 0.1
    mean = [float(levels_db(s)[:, near].mean()) for s in (noise, lifted, run(lifted, plane))]
    assert mean[1] - mean[0] > 4.5
    assert abs(mean[2] - mean[0]) < 1.0
    with pytest.raises(ValueError, match="must rise"):
        Plane(places=((2_000.0, 3.0), (1_000.0, 3.0)))
    # Without notes to spare it shaves what a protected one leaves.
    x = played(65)
    shaved = [np.mean((run(x, Plane(spare_notes=spare)) - x) ** 2) for spare in (100.0, 50.0, 0.0)]
    assert shaved[0] < shaved[1] < shaved[2]


def test_straight_lines_between_few_places_follow_what_was_learned():
    hz = 600.0 * 2.0 ** (np.arange(240) / 60.0)
    curve = np.maximum(bells_db([(900.0, 9.0, 8.0), (3_000.0, 5.0, 20.0)], hz), 0.0)
    places = places_of(hz, np.where(curve > 0.3, curve, 0.0))
    back = np.interp(np.log2(hz), np.log2([one[0] for one in places]), [one[1] for one in places], left=0, right=0)
    assert np.abs(back - curve).max() < 0.6
    assert len(places) < 50
    rugged = np.abs(np.random.default_rng(1).standard_normal(240)) * 6.0
    assert len(places_of(hz, rugged, most=40)) <= 40


def test_a_survey_drafts_planted_lines_and_half_of_a_rooms_modes():
    drafted, taken, changed = [], [], []
    region = (FREQS_HZ > 300.0) & (FREQS_HZ < 8_000.0)
    for program in PROGRAMS[::2]:
        x = played(program)
        clean = survey(ArraySource(x), start=0, end=x.shape[1], sample_rate_hz=RATE)
        changed.append(away_db(run(x, *(cut.move for cut in clean.cuts)), x, region))
        line = drawn((program, 7), 400.0, 6_000.0, (7.0, 14.0), (8.0, 30.0))
        y, near = through(x, [line]), np.abs(np.log2(FREQS_HZ / line[0])) < 1 / 6
        cuts = survey(ArraySource(y), start=0, end=y.shape[1], sample_rate_hz=RATE).cuts
        before = away_db(y, x, near)
        if before > 0.5:
            drafted.append(any(abs(np.log2(cut.move.hz / line[0])) < 0.05 for cut in cuts))
            taken.append(1.0 - away_db(run(y, *(cut.move for cut in cuts)), x, near) / before)
        assert all(-6.0 <= cut.move.gain_db < 0.0 and cut.reason for cut in cuts)
    assert np.mean(drafted) >= 0.7
    assert np.median(taken) >= 0.25
    assert np.mean(changed) <= 0.3

    found, true = [], []
    for program in (0, 24, 25, 27, 52):
        random, modes = np.random.default_rng(program), []
        while len(modes) < 12:
            hz = float(np.exp(random.uniform(np.log(120), np.log(2_000))))
            if all(abs(np.log2(hz / other[0])) > 0.12 for other in modes):
                modes.append((hz, random.uniform(4, 7), float(np.exp(random.uniform(np.log(15), np.log(40))))))
        y = through(played(program), modes)
        cuts = survey(ArraySource(y), start=0, end=y.shape[1], sample_rate_hz=RATE, low_hz=100.0).cuts
        near = [[abs(1_200 * np.log2(cut.move.hz / mode[0])) < 60.0 for mode in modes] for cut in cuts]
        passed = [mode for mode in modes if away_db(through(played(program), [mode]), played(program),
                  np.abs(np.log2(FREQS_HZ / mode[0])) < 1 / 12) > 0.5]  # fmt: skip
        found.append(np.mean([any(row[modes.index(mode)] for row in near) for mode in passed]))
        true += [any(row) for cut, row in zip(cuts, near, strict=True) if cut.move.hz < 2_200.0]
    assert np.mean(found) >= 0.5
    assert np.mean(true) >= 2 / 3


def test_the_command_line_prints_cuts_a_plane_and_the_curve(tmp_path):
    path = tmp_path / "take.wav"
    soundfile.write(path, through(played(40), [(1_700.0, 12.0, 15.0)]).T, RATE, subtype="FLOAT")
    told = json.loads(mivlo("survey", path, "--json", "--most", "3", cwd=tmp_path).stdout)
    assert 1 <= len(told["cuts"]) <= 3
    strongest = told["cuts"][0]
    assert abs(1_200 * np.log2(strongest["hz"] / 1_700.0)) < 60.0
    assert strongest["move"]["gain_db"] == strongest["gain_db"] < 0.0
    assert {"excess_db", "sure", "reason"} <= strongest.keys()
    assert Plane.model_validate(told["plane"]).places
    assert len(told["curve"]["hz"]) == len(told["curve"]["db"]) == len(told["curve"]["sure"])
    assert mivlo("survey", path, "--amount", "200", cwd=tmp_path).returncode != 0
