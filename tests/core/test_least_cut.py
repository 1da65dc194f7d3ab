"""The least-cut plan against all subsets of its proposals, and what a fader would do instead."""

import itertools

import numpy as np
import pytest

from mivlo.core.engine.source import ArraySource
from mivlo.core.ensemble.clashes import find_clashes
from mivlo.core.ensemble.erb_map import erb_map
from mivlo.core.ensemble.least_cut import Scene, candidates_of, fader_instead, plan_of, scene_of
from mivlo.core.ensemble.listening import MixedTrack, full_scale_db_spl, hear

from .phrases import RATE
from .planted import played

ROLES = ("lead voice", "keys", "acoustic guitar", "strings", "keys")
GAINS_DB = (-6.0, 0.0, 2.0, 0.0, -3.0)


def scene_and_candidates(*, is_dynamic: bool = True):
    tracks = []
    for program, gain_db in zip((56, 0, 24, 48, 16), GAINS_DB, strict=True):
        x = played(program)[:, : 6 * RATE]
        x = x / np.sqrt(np.mean(x**2)) * 0.05
        tracks.append(
            MixedTrack(erb_map(ArraySource(x), start=0, end=x.shape[1], sample_rate_hz=RATE), gain_db=gain_db)
        )
    full_scale_db = full_scale_db_spl(tracks)
    heard = hear(tracks, full_scale_db=full_scale_db)
    clashes, order = find_clashes(heard), list(range(len(tracks)))
    firsts = [None if one.by is None else min(one.hidden, one.by) for one in clashes]
    candidates = candidates_of(clashes, order, ROLES, firsts=firsts)[:8]
    reached = [1.0] * len(candidates)
    scene = scene_of(
        tracks, heard, candidates, order, full_scale_db=full_scale_db, reached=reached, is_dynamic=is_dynamic
    )
    return scene, candidates


@pytest.fixture(scope="module")
def found():
    return scene_and_candidates()


def best(scene: Scene, n_candidates: int, size: int) -> float:
    subsets = itertools.chain.from_iterable(
        itertools.combinations(range(n_candidates), n) for n in range(1, min(size, n_candidates) + 1)
    )
    return max(scene.heard(frozenset(one))[0] for one in subsets)


def test_the_plan_wins_nearly_what_the_best_subset_does_and_never_loses(found):
    scene, candidates = found
    assert len(candidates) >= 4
    plan = plan_of(scene, candidates)
    gains = [0.0, *(step.gain_sone for step in plan.steps)]
    assert all(after > before for before, after in itertools.pairwise(gains))
    for size in (2, 3):
        assert gains[size] >= 0.95 * best(scene, len(candidates), size)
    for step in plan.steps:
        assert step.candidate.front < step.candidate.yielding  # who goes first yields to nobody behind
        assert step.candidate.depth_db <= 4.0
    assert plan_of(scene, candidates, most=2).steps == plan.steps[:2]  # a shorter plan is the longer one's beginning


def test_gain_and_cost_are_nothing_without_a_move_and_a_steady_dip_costs_more(found):
    scene, candidates = found
    assert scene.heard(frozenset()) == (0.0, 0.0)
    steady, _ = scene_and_candidates(is_dynamic=False)
    everything = frozenset(range(len(candidates)))
    assert steady.heard(everything)[1] >= scene.heard(everything)[1] > 0.0


def test_a_fader_that_wins_as_much_is_named(found):
    scene, candidates = found
    plan = plan_of(scene, candidates)
    for one in fader_instead(scene, plan):
        assert 0.5 <= one.raised_db <= 3.0
        assert any(step.candidate.front == one.track for step in plan.steps)
        assert scene.heard(frozenset(), raised=(one.track, one.raised_db))[0] == pytest.approx(one.gain_sone)
    assert fader_instead(scene, plan)


def test_nobody_yields_where_nobody_who_goes_first_is_hidden(found):
    scene, _ = found
    assert plan_of(scene, []).steps == ()
