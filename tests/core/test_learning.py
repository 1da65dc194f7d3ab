"""What a plane and a survey learn from planted lines, harshness and rooms, beside the untouched twin.

The figures are those that the project has set itself; bench/places.py measures the same over all test banks.
"""

import numpy as np
import pytest

from mivlo.core.engine.source import ArraySource
from mivlo.core.finder.learning import learn
from mivlo.core.finder.survey import survey
from mivlo.core.moves.plane import Plane

from .phrases import RATE, phrase
from .planted import FREQS_HZ, MELODY, PROGRAMS, away_db, drawn, learned, played, run, through


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


def test_of_a_curve_that_only_wobbles_nothing_is_learned():
    for program in PROGRAMS[:3]:
        x = played(program)
        found = learn(ArraySource(x), start=0, end=x.shape[1], sample_rate_hz=RATE, low_hz=600.0, high_hz=10_000.0)
        inside = (found.levels.hz > 600.0) & (found.levels.hz < 10_000.0)
        assert np.mean(found.of_curve_db[inside] > 0.0) < 0.3


def test_a_plane_that_learned_and_found_nothing_leaves_alone_what_an_unlearnt_one_shaves():
    x = np.random.default_rng(8).standard_normal((1, 4 * RATE)) * 0.1
    t = np.arange(x.shape[1]) / RATE
    found = learned(x)
    assert found.places == ((600.0, 0.0), (10_000.0, 0.0))
    glide = x + 0.05 * np.sin(2 * np.pi * (1_500.0 * t + 150.0 * t**2))
    part = (FREQS_HZ > 1_000.0) & (FREQS_HZ < 4_000.0)
    assert away_db(run(glide, found), glide, part) < 0.5 * away_db(run(glide, Plane()), glide, part)


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
