"""What must not change an answer: level, time, order, polarity, rate, and tracks that are silent."""

import numpy as np
import pytest
import soxr

from mivlo.core.engine.mix import Mix
from mivlo.core.engine.render import render_track
from mivlo.core.engine.source import ArraySource
from mivlo.core.ensemble.clashes import find_clashes
from mivlo.core.ensemble.erb_map import erb_map
from mivlo.core.ensemble.listening import MixedTrack, full_scale_db_spl, hear
from mivlo.core.finder.stretch import Findings
from mivlo.core.finder.survey import survey
from mivlo.core.finder.suspects import find
from mivlo.core.model import LedgerEntry, Track
from mivlo.core.moves.bell import Bell
from mivlo.core.moves.dynamic_bell import DynamicBell
from mivlo.core.moves.plane import Plane

from .phrases import RATE, phrase, pink
from .test_finder import MELODY, biquad

TOLD_FROM = 0.03  # the page shows no others
HOP = 1_024  # frames of the finder's map: a shift by whole hops is the same picture


@pytest.fixture(scope="module")
def fiddle() -> np.ndarray:
    """Return a fiddle with a planted line and a hump."""
    return biquad(biquad(phrase(40, MELODY)[0], 1_130.0, 13.0, 20.0), 420.0, 8.0, 1.0)


def found(x: np.ndarray, *, start: int = 0, end: int | None = None, rate: int = RATE) -> Findings:
    return find(
        ArraySource(x), start=start, end=x.shape[1] if end is None else end, sample_rate_hz=rate, role="strings"
    )


def told(findings: Findings, *, shift_s: float = 0.0) -> list[tuple]:
    """Return what is said of each suspect that is shown."""
    return [
        (one.kind, one.behaviour, round(one.hz), round(one.q, 1), one.confidence, round(one.times[0][0] - shift_s, 1))
        for one in findings.suspects
        if one.confidence > TOLD_FROM and one.times
    ]


def just(said: list[tuple]) -> list[tuple]:
    """Return what is said, to be compared: the confidence to a hundredth, all else exactly."""
    return [(*one[:4], pytest.approx(one[4], abs=0.01), *one[5:]) for one in said]


def test_suspects_do_not_hang_on_level_polarity_or_channels(fiddle):
    usual = told(found(fiddle))
    assert usual
    for other in (0.1 * fiddle, -fiddle, fiddle[::-1]):
        assert told(found(np.ascontiguousarray(other))) == just(usual)
    loud, soft = (found(gain * fiddle).suspects[0].proposals.tame.model_dump() for gain in (1.0, 0.1))
    assert loud.pop("threshold_db") - soft.pop("threshold_db") == pytest.approx(20.0, abs=0.2)  # a threshold is a level
    assert loud.pop("hz") == pytest.approx(soft.pop("hz"), rel=1e-4)
    assert loud == soft


def test_suspects_go_with_the_sound_when_it_is_moved_or_cut_out(fiddle):
    usual = told(found(fiddle))
    shift = 188 * HOP
    later = np.pad(fiddle, ((0, 0), (shift, 0)))
    assert told(found(later, start=shift), shift_s=shift / RATE) == just(usual)
    half = 300 * HOP
    of_whole, of_part = found(fiddle, end=half), found(fiddle[:, :half])
    assert told(of_whole) == just(told(of_part))


def test_suspects_are_the_same_at_twice_the_rate(fiddle):
    double = soxr.resample(fiddle.T, RATE, 2 * RATE, quality="VHQ").T
    first, second = (
        findings.suspects for findings in (found(fiddle), found(np.ascontiguousarray(double), rate=2 * RATE))
    )
    for one in first[:2]:
        near = min(second[:4], key=lambda other: abs(np.log2(other.hz / one.hz)))
        assert abs(1_200 * np.log2(near.hz / one.hz)) < 10
        assert near.kind == one.kind
        assert near.confidence == pytest.approx(one.confidence, abs=0.1)


def test_a_survey_goes_with_level_and_time(fiddle):
    t = np.arange(fiddle.shape[1]) / RATE
    stray = 0.1 * np.sqrt(np.mean(fiddle**2)) * sum(np.sin(2 * np.pi * hz * t) for hz in (823.0, 2_710.0))
    fiddle = fiddle + stray * (0.6 + 0.4 * np.sin(2 * np.pi * 0.9 * t))

    def cuts(x: np.ndarray, start: int = 0) -> list[tuple]:
        drafted = survey(ArraySource(x), start=start, end=x.shape[1], sample_rate_hz=RATE).cuts
        return [(round(cut.move.hz, 1), round(cut.move.gain_db, 1), round(cut.move.q, 1)) for cut in drafted]

    usual = cuts(fiddle)
    assert usual
    assert cuts(0.1 * fiddle) == usual
    assert cuts(np.pad(fiddle, ((0, 0), (94 * HOP, 0))), start=94 * HOP) == usual


def clashes(sounds: list[np.ndarray], *, order: tuple[int, ...], gain_db: float = 0.0) -> list[tuple]:
    """Return who hides whom, where and how much, by the tracks' own numbers, whatever their order."""
    tracks = [
        MixedTrack(
            erb_map(ArraySource(sounds[k]), start=0, end=sounds[k].shape[1], sample_rate_hz=RATE), gain_db=gain_db
        )
        for k in order
    ]
    heard = hear(tracks, full_scale_db=full_scale_db_spl(tracks))
    return sorted(
        (order[one.hidden], order[one.by] if one.by is not None else -1, round(one.low_hz), round(one.loss_percent))
        for one in find_clashes(heard)
    )


def test_clashes_do_not_hang_on_order_common_level_or_silent_tracks():
    sounds = [phrase(program, MELODY[:8])[0] for program in (42, 40, 73)]
    sounds[1] = biquad(sounds[1], 400.0, 9.0, 1.0)
    sounds.append(np.zeros_like(sounds[0]))
    usual = clashes(sounds, order=(0, 1, 2))
    assert usual
    assert clashes(sounds, order=(2, 0, 1)) == usual
    assert (
        clashes(sounds, order=(0, 1, 2), gain_db=-12.0) == usual
    )  # the listening level is the mix's, wherever the faders are
    assert clashes(sounds, order=(3, 0, 1, 2)) == usual


def rendered(x: np.ndarray, *moves) -> np.ndarray:
    ledger = tuple(LedgerEntry(id=str(number), move=move) for number, move in enumerate(moves))
    mix = Mix(tracks=(Track(id="t", audio_id="a", ledger=ledger),))
    blocks = render_track(mix, "t", lambda _: ArraySource(x), start=0, end=x.shape[1], sample_rate_hz=RATE)
    return np.concatenate(list(blocks), axis=1)


def test_adaptive_moves_go_with_time_polarity_and_channels_and_level_where_they_should():
    x = pink(3.0)
    plane = Plane(amount=0.8)
    keyed = DynamicBell(hz=900.0, q=4.0, depth_db=-8.0, threshold_db=-50.0)
    for move in (plane, keyed):
        usual = rendered(x, move)
        assert np.abs(rendered(-x, move) + usual).max() < 1e-12
        assert (
            np.abs(rendered(np.ascontiguousarray(x[::-1]), move)[::-1] - usual).max() < 1e-9
        )  # linked: no channel leads
        shift = 64 * 750
        later = rendered(np.pad(x, ((0, 0), (shift, 0))), move)[:, shift:]
        assert np.mean((later - usual) ** 2) < 1e-6 * np.mean(x**2)  # silence is something heard, too
    # What stands out of its own outline does so at every level; a threshold is passed or not.
    soft = rendered(0.05 * x, plane) / 0.05
    assert 20 * np.log10(np.sqrt(np.mean((soft - rendered(x, plane)) ** 2)) / np.sqrt(np.mean(x**2))) < -60
    below = 10 ** (-60 / 20)
    assert np.array_equal(rendered(below * x, keyed), below * x)


def test_static_moves_commute_and_undo_each_other():
    x = pink(2.0)
    first, second = Bell(hz=431.0, q=8.0, gain_db=-6.0), Bell(hz=2_300.0, q=1.0, gain_db=4.0)
    assert np.abs(rendered(x, first, second) - rendered(x, second, first)).max() < 1e-10
    undone = rendered(x, first, first.model_copy(update={"gain_db": 6.0}))
    assert np.abs(undone - x).max() < 1e-6  # a bell of +G is the inverse of one of -G (references 1.2)
