"""The least-cut plan against all subsets of its proposals, what a fader would do instead, and what it would free."""

import base64
import itertools

import numpy as np
import pytest

from mivlo.core.analyses.base import Need
from mivlo.core.analyses.registry import ANALYSES
from mivlo.core.engine.source import ArraySource
from mivlo.core.ensemble.clashes import find_clashes
from mivlo.core.ensemble.erb_map import erb_map
from mivlo.core.ensemble.least_cut import Scene, candidates_of, fader_instead, plan_of, scene_of
from mivlo.core.ensemble.listening import MixedTrack, full_scale_db_spl, hear
from mivlo.core.model import RecordedSession
from mivlo.core.model.intents import apply_all
from mivlo.core.model.intents.ledgers import AddMove

from .phrases import RATE
from .planted import played
from .test_analyses import Kept

PROGRAMS = (56, 0, 24, 48, 16)
ROLES = ("lead voice", "keys", "acoustic guitar", "strings", "keys")
GAINS_DB = (-6.0, 0.0, 2.0, 0.0, -3.0)


def sound_of(program: int) -> np.ndarray:
    x = played(program)[:, : 6 * RATE]
    return x / np.sqrt(np.mean(x**2)) * 0.05


def scene_and_candidates(*, is_dynamic: bool = True):
    tracks = []
    for program, gain_db in zip(PROGRAMS, GAINS_DB, strict=True):
        x = sound_of(program)
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


def test_columns_with_the_plan_are_what_is_heard_once_it_is_taken(tmp_path):
    class KeptBand(Kept):
        def open(self, audio_id: str):
            program = int(audio_id, 16)
            return ArraySource(sound_of(program)) if program < 128 else self.rendered(audio_id)

    def answer(name: str, now: RecordedSession, **figures):
        analysis = ANALYSES[name]
        asked = analysis.asked(**figures)
        need = Need(analysis, analysis.question(now, asked, lambda _: None))
        kept.computed(need)
        return analysis.show(now, asked, need.params, kept.result(need))

    def hidden_in(pictures: list[str]) -> np.ndarray:
        return np.array([np.frombuffer(base64.b64decode(one), dtype=np.uint8) for one in pictures]).astype(float)

    kept = KeptBand(tmp_path)
    facts = {"original_name": "x.wav", "format": "WAV", "subtype": "PCM_24", "original_rate_hz": RATE}
    audio = {}
    for program in PROGRAMS:
        n_channels, n_frames = sound_of(program).shape
        lengths = {"n_channels": n_channels, "n_frames": n_frames, "original_frames": n_frames}
        audio[f"{program:032x}"] = {"id": f"{program:032x}", **lengths, **facts}
    tracks = [
        {"id": f"t{at}", "name": f"Track {at}", "role": role, "gain_db": gain_db, "audio_id": f"{program:032x}"}
        for at, (program, role, gain_db) in enumerate(zip(PROGRAMS, ROLES, GAINS_DB, strict=True))
    ]
    before = RecordedSession.model_validate({"id": "s", "sample_rate_hz": RATE, "tracks": tracks, "audio": audio})
    plan = answer("plan", before)
    n_moves = min(len(plan.moves), 4)
    assert n_moves >= 2
    taken = apply_all(before, [AddMove(strip_id=one.strip_id, entry=one.entry) for one in plan.moves[:n_moves]])
    then, now = (answer("ensemble", one) for one in (before, taken))
    planned = answer("planned-columns", before, n_moves=n_moves)
    assert [one.id for one in planned.columns] == [one.id for one in then.columns]
    was = hidden_in([one.hidden_now for one in then.columns])
    became = hidden_in([one.hidden_now for one in now.columns])
    told = hidden_in([one.hidden for one in planned.columns])
    assert np.array_equal(hidden_in([one.hidden for one in answer("planned-columns", before, n_moves=0).columns]), was)
    assert np.abs(told - became).sum() < 0.5 * np.abs(was - became).sum()
    # Mostly those are freed who go first, not those who only yield.
    won = hidden_in([one.freed for one in planned.columns]).sum(axis=1)
    fronts = {one.front for one in plan.moves[:n_moves]}
    yielding = {one.strip_id for one in plan.moves[:n_moves]} - fronts
    ids = [one.id for one in planned.columns]
    assert sum(won[ids.index(one)] for one in fronts) > 2.0 * sum(won[ids.index(one)] for one in yielding)
