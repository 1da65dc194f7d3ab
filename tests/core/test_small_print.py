"""Single lines on which a figure hangs, each against the definition or standard that it comes from."""

import itertools
from itertools import pairwise

import numpy as np
import pytest
import soundfile
from scipy.optimize import brentq
from scipy.signal import butter, sosfilt

from mivlo.core.audiofile import ImportLimits, inspect_audio, write_blocks
from mivlo.core.channel import lane_of, put_lane_back
from mivlo.core.engine.guard import Guard
from mivlo.core.engine.mix import GuardReference, Mix
from mivlo.core.engine.render import render_mix
from mivlo.core.engine.source import ArraySource
from mivlo.core.ensemble.clashes import find_clashes
from mivlo.core.ensemble.contest import Contest, Outcome, contest_between, outcome
from mivlo.core.ensemble.erb_map import erb_map
from mivlo.core.ensemble.hearing import CENTRES_HZ
from mivlo.core.ensemble.listening import MixedTrack, hear
from mivlo.core.ensemble.right_of_way import goes_first
from mivlo.core.ensemble.yielding import Region, _least, _least_depth
from mivlo.core.errors import AudioFileError
from mivlo.core.filters import analog
from mivlo.core.filters.analog import butterworth, response
from mivlo.core.finder.proposals import with_threshold
from mivlo.core.level_match import Loudness, loudness_of, matched
from mivlo.core.loudness import integrated_loudness, true_peak_db
from mivlo.core.model import Group, LedgerEntry, RightOfWay, Track
from mivlo.core.moves.bell import Bell
from mivlo.core.moves.dynamic_bell import DynamicBell
from mivlo.core.units import octaves_to_q

RATE = 48_000


@pytest.mark.parametrize("high_pass", [False, True])
def test_the_q_of_a_cut_multiplies_that_of_its_sharpest_section_alone(high_pass):
    hz = np.array([300.0, 700.0, 1_000.0, 1_400.0, 3_000.0])
    s = 1j * hz / 1_000.0
    # Butterworth of order 4 (handbook table: Q 0.5412 and 1.3066), the sharper one times q / 0.7071.
    wanted = np.ones(len(hz), dtype=complex)
    for q in (0.541196, 1.306563 * 2.0 / 0.707107):
        wanted *= (s**2 if high_pass else 1.0) / (s**2 + s / q + 1.0)
    found = response(butterworth(1_000.0, 4, high_pass=high_pass, q=2.0), hz)
    assert np.max(np.abs(20 * np.log10(np.abs(found / wanted)))) < 1e-4


def tone(level_dbfs: float, seconds: float) -> np.ndarray:
    """Return a stereo tone of 1 kHz whose loudness reads its level, as BS.1770-4 is calibrated."""
    t = np.arange(round(seconds * RATE)) / RATE
    return np.tile(10.0 ** (level_dbfs / 20.0) * np.sin(2 * np.pi * 1_000.0 * t), (2, 1))


def test_what_is_under_the_absolute_gate_counts_for_nothing():
    # 10 LU under the mean of both would be -76.3: only the absolute gate of -70 LUFS leaves the quieter half out.
    faint = np.concatenate([tone(-64.0, 10.0), tone(-71.5, 10.0)], axis=1)
    assert integrated_loudness(faint, sample_rate_hz=RATE) == pytest.approx(-64.0, abs=0.1)


def test_loudness_and_true_peak_are_those_of_the_whole_however_it_is_cut():
    x = np.random.default_rng(1).standard_normal((2, 700_001)) * 0.1
    whole = loudness_of([x], sample_rate_hz=RATE)
    cuts = [0, 1, 999, 262_144, 262_656, 300_000, 699_999, 700_001]
    parts = [x[:, a:b] for a, b in pairwise(cuts)]
    again = loudness_of(parts, sample_rate_hz=RATE)
    assert again.loudness_lufs == pytest.approx(whole.loudness_lufs, abs=1e-9)
    assert again.true_peak_db == pytest.approx(whole.true_peak_db, abs=1e-9)
    # A quarter of the rate, at 45 degrees, faded at its ends: -3.01 dBTP everywhere, at the seams of chunks too.
    n = np.arange(600_000)
    steady = np.sin(np.pi / 2 * n + np.pi / 4) * np.minimum(1.0, np.minimum(n, n[::-1]) / 4_800) * 10 ** (-3.01 / 20)
    assert true_peak_db(steady[None, :]) == pytest.approx(-3.01, abs=0.02)


def test_the_guard_holds_the_true_peak_where_no_sample_shows_it():
    n = np.arange(2 * RATE)
    x = np.tile(1.2 * np.sin(np.pi / 2 * n + np.pi / 4), (2, 1))  # samples of 0.85, true peaks of 1.2
    guard = Guard(RATE)
    loud = GuardReference(loudness_lufs=20.0, true_peak_db=None)
    parts = [guard.push(x[:, at : at + 64], loud) for at in range(0, x.shape[1], 64)]
    assert true_peak_db(np.concatenate(parts, axis=1)[:, RATE // 2 : -RATE // 2]) < -0.9  # the ceiling is -1 dBTP


def rendered(mix: Mix, sources: dict, start: int, end: int) -> np.ndarray:
    blocks = render_mix(mix, sources.__getitem__, start=start, end=end, sample_rate_hz=RATE)
    return np.concatenate(list(blocks), axis=1)


def test_members_sound_during_the_pre_roll_of_a_group_with_moves():
    clicks = np.zeros((1, 3 * RATE))
    clicks[0, RATE + RATE // 2] = 1.0
    ringing = (LedgerEntry(id="r", move=Bell(hz=200.0, gain_db=24.0, q=40.0)),)
    mix = Mix(tracks=(Track(id="t", audio_id="t", group_id="g"),), groups=(Group(id="g", ledger=ringing),))
    sources = {"t": ArraySource(clicks)}
    start = 2 * RATE - 24_000 + 12_800  # 0.27 s behind the click, in its ring
    late, whole = rendered(mix, sources, start, 2 * RATE), rendered(mix, sources, 0, 2 * RATE)[:, start:]
    assert np.max(np.abs(whole)) > 1e-4
    assert np.max(np.abs(late - whole)) < 1e-3 * np.max(np.abs(whole))


@pytest.mark.parametrize(("muted", "acts"), [(False, True), (True, False)])
def test_a_track_of_a_muted_group_is_no_key(muted, acts):
    noise = 0.2 * np.random.default_rng(2).standard_normal((2, 1, RATE))
    duck = DynamicBell(hz=1_000.0, q=0.5, threshold_db=-60.0, depth_db=-12.0, listens_to="key")
    tracks = (
        Track(id="t", audio_id="t", ledger=(LedgerEntry(id="d", move=duck),)),
        Track(id="key", audio_id="key", group_id="g"),
    )
    mix = Mix(tracks=tracks, groups=(Group(id="g", mute=muted),), heard_ids=("t",))
    sources = {"t": ArraySource(noise[0]), "key": ArraySource(noise[1])}
    plain = mix.model_copy(update={"tracks": (tracks[0].model_copy(update={"ledger": ()}), tracks[1])})
    change = rendered(mix, sources, 0, RATE) - rendered(plain, sources, 0, RATE)
    assert (np.sqrt(np.mean(change[:, RATE // 2 :] ** 2)) > 0.01) == acts


def test_where_it_is_to_act_all_the_time_the_threshold_is_the_highest_that_does_it():
    source = ArraySource(tone(-20.0, 4.0)[:1])
    move = DynamicBell(hz=1_000.0, q=4.0, depth_db=-6.0, ratio=4.0, knee_db=6.0)
    set_to = with_threshold(move, source, times=((0.0, 4.0),), start=0, end=4 * RATE, sample_rate_hz=RATE)
    # At a ratio of 4 the dip is three quarters of what the level is over the threshold: 6 dB take 8. The level of a
    # tone is that of its peak; the knee costs a little, the search goes in steps of a dB or so.
    assert -20.0 - 8.0 - 3.0 - 3.0 < set_to.threshold_db <= -20.0 - 8.0 + 0.5


def contest_of_bands() -> Contest:
    """Two bands of noise, the louder one hiding the other's middle."""
    parts = []
    for low, high, level_db, seed in ((400, 900, -34.0, 1), (250, 1_500, -24.0, 2)):
        x = sosfilt(butter(4, (low, high), "bandpass", fs=RATE, output="sos"),
                    np.random.default_rng(seed).standard_normal((1, 4 * RATE)))  # fmt: skip
        parts.append(x * 10.0 ** (level_db / 20.0) / np.sqrt(np.mean(x**2)))
    maps = [erb_map(ArraySource(x), start=0, end=4 * RATE, sample_rate_hz=RATE) for x in parts]
    tracks = [MixedTrack(one) for one in maps]
    heard = hear(tracks, full_scale_db=100.0)
    contest = contest_between(tracks, heard, front=0, yielding=1, low_hz=400.0, high_hz=900.0, full_scale_db=100.0)
    assert contest is not None
    return contest


@pytest.mark.parametrize("part", [0.3, 0.6])
def test_a_yield_is_no_deeper_than_it_need_be_and_the_cheapest_of_those(part):
    contest, region = contest_of_bands(), Region(400.0, 900.0, ())
    nothing, gone = np.ones(len(CENTRES_HZ)), np.ones(len(CENTRES_HZ))
    gone[contest.region] = 0.0
    rest, best = outcome(contest, nothing), outcome(contest, gone)
    target = rest.front + part * (best.front - rest.front)

    def with_dip(hz: float, octaves: float, depth_db: float) -> Outcome:
        bell = analog.flat_bell(hz, -depth_db, octaves_to_q(octaves))
        return outcome(contest, np.abs(analog.response(bell, CENTRES_HZ)) ** 2)

    hz, octaves, depth_db, result = _least(contest, region, 24.0, part, 1.0)
    assert result.front >= target
    assert with_dip(hz, octaves, 0.75 * depth_db).front < target
    # Every other place and width, each as deep as it takes to come as far (scipy's root finder), costs as much.
    kept = []
    for at, wide in itertools.product((0.2, 0.35, 0.5, 0.65, 0.8), (0.5, 0.65, 0.8, 1.0, 1.3, 1.8)):
        place = 400.0 * 2.0 ** (at * region.octaves)
        missed = lambda db, hz=place, w=wide * region.octaves: with_dip(hz, w, db).front - result.front  # noqa: E731
        if missed(24.0) > 0:
            kept.append(with_dip(place, wide * region.octaves, brentq(missed, 0.0, 24.0, xtol=0.05)).yielding)
    assert result.yielding > max(kept) - 0.02 * rest.yielding


def test_the_louder_of_two_readings_is_turned_down():
    loud, soft = (Loudness(loudness_lufs=lufs, true_peak_db=-1.0) for lufs in (-12.0, -15.5))
    assert (matched(loud, soft).match_before_db, matched(loud, soft).match_after_db) == (-3.5, 0.0)
    assert (matched(soft, loud).match_before_db, matched(soft, loud).match_after_db) == (0.0, -3.5)


@pytest.mark.parametrize(("channel", "wanted"), [("mid", (5.0, 4.0)), ("side", (5.0, 0.0)), ("right", (3.0, 4.0))])
def test_what_a_move_makes_of_mid_or_side_comes_back_into_both_channels(channel, wanted):
    x = np.array([[3.0], [2.0]])  # mid 2.5, side 0.5: left is their sum, right their difference
    before = lane_of(x, channel)
    put_lane_back(x, channel, before, before + 2.0)
    assert x.ravel().tolist() == list(wanted)


def test_without_a_rule_the_first_in_the_order_goes_first():
    rights, order = RightOfWay(), ["voice", "drum", "organ"]
    for pair in (("drum", "voice"), ("voice", "drum")):
        assert goes_first(rights, order, *pair, low_hz=300.0, high_hz=600.0) == "voice"


def test_what_is_not_to_be_dithered_keeps_its_bits(tmp_path):
    steps = np.arange(-4_000, 4_000)[None, :] / 2.0**23  # whole steps of 24 bits
    for dither in (False, True):
        path = tmp_path / f"{dither}.wav"
        write_blocks(path, [steps], n_channels=1, sample_rate_hz=RATE, output="wav-24", dither=dither)
        assert np.array_equal(soundfile.read(path)[0], steps[0]) == (not dither)


def test_clashes_with_short_breaths_between_are_one_stretch():
    beats = np.zeros((2, 1, 6 * RATE))
    times = np.arange(6 * RATE) / RATE
    for index, level in enumerate((0.02, 0.3)):
        on = (times % 0.5 < 0.4) & (times > 1.0) & (times < 5.0)
        beats[index, 0] = level * on * np.random.default_rng(index).standard_normal(6 * RATE)
    maps = [MixedTrack(erb_map(ArraySource(x), start=0, end=6 * RATE, sample_rate_hz=RATE)) for x in beats]
    first, *_ = find_clashes(hear(maps, full_scale_db=100.0))
    assert len(first.times) == 1
    assert first.times[0][1] - first.times[0][0] > 3.5


def test_a_dip_that_costs_as_much_as_another_one_is_not_taken_for_it():
    def at(depth_db: float) -> Outcome:
        return Outcome(front=depth_db, yielding=10.0 - depth_db)

    deepest = (500.0, 0.5, 8.0, at(8.0))
    assert _least_depth(at, deepest, 4.0, 5.9) == (500.0, 0.5, 4.0, at(4.0))
    assert _least_depth(at, deepest, 4.0, 6.0) is None  # the other one leaves as much


def test_more_channels_than_two_are_refused_with_both_figures(tmp_path):
    soundfile.write(tmp_path / "three.wav", np.zeros((RATE, 3)), RATE)
    with pytest.raises(AudioFileError, match="3 channels, but at most 2"):
        inspect_audio(tmp_path / "three.wav", limits=ImportLimits(), name="three.wav")
