"""How much a fault is heard in the mix: the facts of its definition, and who hides it."""

import itertools

import numpy as np
import pytest

from mivlo.core.engine.source import ArraySource
from mivlo.core.ensemble.erb_map import erb_map, frame_s
from mivlo.core.ensemble.in_mix import Fault, InMix, change_in_mix, fault_powers, heard_as, in_mix
from mivlo.core.ensemble.listening import MixedTrack

from .phrases import RATE
from .planted import played, through

HZ, GAIN_DB, Q = 900.0, 12.0, 12.0
FULL_SCALE_DB = 100.0


def track(x: np.ndarray, gain_db: float = 0.0, pan: float = 0.0) -> MixedTrack:
    made = erb_map(ArraySource(x), start=0, end=x.shape[1], sample_rate_hz=RATE)
    return MixedTrack(made, gain_db=gain_db, pan=pan)


def noise(low_hz: float, high_hz: float, *, like: np.ndarray, db: float = 0.0, pink: bool = False) -> np.ndarray:
    """Return noise of a band, so many dB above the level of another sound as a whole."""
    n = like.shape[1]
    spectrum = np.fft.rfft(np.random.default_rng(1).standard_normal(n))
    hz = np.fft.rfftfreq(n, 1 / RATE)
    spectrum[(hz < low_hz) | (hz > high_hz)] = 0.0
    if pink:
        spectrum[1:] /= np.sqrt(hz[1:])
    x = np.fft.irfft(spectrum, n)[None]
    return x * np.std(like) / np.std(x) * 10 ** (db / 20)


@pytest.fixture(scope="module")
def faulty() -> np.ndarray:
    return through(played(25), [(HZ, GAIN_DB, Q)])


def told(x: np.ndarray, *others: MixedTrack, own_last: bool = False, fault: Fault | None = None) -> InMix:
    own = track(x)
    [powers] = fault_powers(
        ArraySource(x), [fault or Fault(((HZ, GAIN_DB, Q),))], own, start=0, sample_rate_hz=RATE
    )  # fmt: skip
    tracks = [*others, own] if own_last else [own, *others]
    return in_mix(
        tracks, len(others) if own_last else 0, powers, full_scale_db=FULL_SCALE_DB, hop_s=frame_s(RATE)
    )  # fmt: skip


def test_alone_it_is_the_faults_own_gain_and_nobody_covers_it(faulty):
    one = told(faulty)
    assert one.in_mix_db == pytest.approx(GAIN_DB, abs=0.1)
    assert one.change_db > 6.0
    assert (one.heard, one.covered_by) == ("plain", None)


def test_a_louder_neighbour_never_raises_it_and_the_order_of_tracks_does_not_matter(faulty):
    pink = noise(20, 20_000, like=faulty, pink=True)
    levels = [told(faulty, track(pink, db)) for db in (-24, -16, -8, 0, 8, 16, 24)]
    for one, louder in itertools.pairwise(levels):
        assert louder.in_mix_db <= one.in_mix_db + 0.1
        assert louder.change_db <= one.change_db + 0.1
    assert levels[0].in_mix_db > 11.5  # as tried in definitions.md: 11.97 to 0.2
    assert levels[-1].in_mix_db < 1.0
    turned = told(faulty, track(pink, 8.0), own_last=True)
    assert turned.in_mix_db == pytest.approx(levels[4].in_mix_db, abs=1e-6)
    assert turned.covered_by == 0


def test_a_band_just_below_hides_more_than_one_just_above(faulty):
    # Upward spread of masking: Moore, Glasberg and Baer (1997); any textbook of hearing.
    below = told(faulty, track(noise(620, 800, like=faulty, db=12.0)))
    above = told(faulty, track(noise(1_010, 1_190, like=faulty, db=12.0)))
    assert below.change_db < above.change_db
    assert below.in_mix_db < above.in_mix_db
    bands = [track(noise(*band, like=faulty, db=12.0)) for band in ((1_010, 1_190), (620, 800))]
    assert told(faulty, *bands).covered_by == 2


def test_what_is_under_the_threshold_of_hearing_is_not_heard(faulty):
    own = track(faulty, -120.0)
    [powers] = fault_powers(ArraySource(faulty), [Fault(((HZ, GAIN_DB, Q),))], own, start=0, sample_rate_hz=RATE)
    one = in_mix([own], 0, powers, full_scale_db=FULL_SCALE_DB, hop_s=frame_s(RATE))
    assert (one.in_mix_db, one.change_db, one.heard) == (0.0, 0.0, "lost")


def test_a_burst_is_listened_for_in_its_times_and_where_it_is_plainest_is_a_loop(faulty):
    pink = noise(20, 20_000, like=faulty, db=20.0, pink=True)
    pink[:, : 3 * RATE] *= 1e-3  # in the first three seconds nobody covers it
    one = told(faulty, track(pink))
    assert one.plainest_s is not None
    assert one.plainest_s[0] < 1.5
    early, late = (
        told(faulty, track(pink), fault=Fault(((HZ, GAIN_DB, Q),), (times,))) for times in ((0.5, 2.5), (5.0, 7.0))
    )
    assert early.change_db > 6.0 > 2.0 > late.change_db


def test_what_a_track_starts_later_with_is_taken_where_it_is(faulty):
    late = np.pad(faulty, ((0, 0), (RATE // 2, 0)))
    own, fault = track(late), Fault(((HZ, GAIN_DB, Q),))
    [powers] = fault_powers(ArraySource(faulty), [fault], own, start=RATE // 2, sample_rate_hz=RATE)
    one = in_mix([own], 0, powers, full_scale_db=FULL_SCALE_DB, hop_s=frame_s(RATE))
    assert one.in_mix_db == pytest.approx(GAIN_DB, abs=0.1)


def test_a_move_is_heard_in_the_mix_by_what_the_mix_is_without_it(faulty):
    clean = track(played(25))
    change_db, percent = change_in_mix([clean], 0, track(faulty), full_scale_db=FULL_SCALE_DB)
    assert change_db > 6.0
    assert percent < -1.0  # without the cut it was louder
    loud = track(noise(20, 20_000, like=faulty, db=30.0, pink=True))
    covered, _ = change_in_mix([clean, loud], 0, track(faulty), full_scale_db=FULL_SCALE_DB)
    assert heard_as(covered) == "lost"
