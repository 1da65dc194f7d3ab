"""What places do to whatever passes them: the curve, and what a plane and a survey learn from it.

Sampled instruments of Debian's small bank, on which nothing here was chosen; equalizers, lines and rooms of known shape
are laid over them by scipy's filters. The figures are those that the project has set itself; bench/places.py measures
the same over all test banks.
"""

import json

import numpy as np
import pytest
import soundfile

from mivlo.core.engine.source import ArraySource
from mivlo.core.errors import ParameterError
from mivlo.core.finder.learning import places_of
from mivlo.core.finder.place_curve import SURE, place_curve
from mivlo.core.moves.plane import Plane

from .phrases import RATE, phrase, pink
from .planted import (
    FREQS_HZ,
    PROGRAMS,
    bells_db,
    curve_of,
    drawn,
    levels_db,
    played,
    run,
    through,
)
from .test_files import mivlo


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
    assert shaved[2] > 0.03 * np.mean(x**2)  # whatever stands proud: whole partials


def test_straight_lines_between_few_places_follow_what_was_learned():
    hz = 600.0 * 2.0 ** (np.arange(240) / 60.0)
    curve = np.maximum(bells_db([(900.0, 9.0, 8.0), (3_000.0, 5.0, 20.0)], hz), 0.0)
    places = places_of(hz, np.where(curve > 0.3, curve, 0.0))
    back = np.interp(np.log2(hz), np.log2([one[0] for one in places]), [one[1] for one in places], left=0, right=0)
    assert np.abs(back - curve).max() < 0.6
    assert len(places) < 50
    rugged = np.abs(np.random.default_rng(1).standard_normal(240)) * 6.0
    assert len(places_of(hz, rugged, most=40)) <= 40


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
