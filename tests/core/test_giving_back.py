"""Drive, warmth, air and trim: alias and levels as defined, bit for bit where there is nothing to do.

Alias: of a sine, nothing between 20 Hz and 20 kHz that is no harmonic of it; definitions of the project.
"""

import numpy as np
import pytest

from mivlo.core.give_back import give_back
from mivlo.core.moves.air import Air
from mivlo.core.moves.bell import Bell
from mivlo.core.moves.drive import Drive
from mivlo.core.moves.high_shelf import HighShelf
from mivlo.core.moves.low_cut import LowCut
from mivlo.core.moves.trim import Trim
from mivlo.core.moves.warmth import Warmth
from mivlo.core.processors.stage import Context

from .planted import FREQS_HZ, levels_db, played, run

RATES = (44_100, 48_000, 96_000)
LONG = 1 << 16


def harmonics_db(move, hz: float, peak: float, rate: int) -> tuple[np.ndarray, float]:
    """Return the levels of the first ten harmonics beside the fundamental, and of the highest of all else."""
    bin_number = round(hz * LONG / rate) | 1
    t = np.arange(3 * LONG)
    x = peak * np.sin(2 * np.pi * bin_number * t / LONG)[None]
    y = move.stage("m", on=True, keepers=(), sample_rate_hz=rate).make(1, rate).process(x, Context(0))[0, -LONG:]
    power = np.abs(np.fft.rfft(y * np.blackman(LONG))) ** 2
    hz_of = np.arange(len(power)) * rate / LONG
    at = [slice(max(h * bin_number - 5, 0), h * bin_number + 6) for h in range(1, int(30_000 / hz) + 2)]
    levels = np.array([power[part].max(initial=1e-30) for part in at])
    else_where = (hz_of > 20.0) & (hz_of < 20_000.0)
    for part in at:
        else_where[part] = False
    relative = 10 * np.log10(levels / levels[0])
    return relative[:10], float(10 * np.log10(power[else_where].max() / levels[0]))


@pytest.mark.parametrize("rate", RATES)
@pytest.mark.parametrize(("over_db", "below_db"), [(12.0, -80.0), (24.0, -60.0)])
def test_a_driven_sine_has_no_alias(rate, over_db, below_db):
    drive = Drive(drive_db=24.0, ceiling_dbfs=-6.0)
    peak = 10 ** ((-6.0 + over_db - 24.0) / 20)
    levels, alias_db = harmonics_db(drive, 4_700.0, peak, rate)
    assert alias_db < below_db
    assert levels[2] > -30.0  # and odd harmonics, which are what it is for
    assert levels[1] < -80.0


@pytest.mark.parametrize("rate", RATES)
@pytest.mark.parametrize(
    ("move", "hz"), [(Warmth(hz=500, amount_db=-10), 431.0), (Air(hz=2_000, amount_db=-10), 4_700.0)]
)
def test_harmonics_have_no_alias_and_follow_the_bands_own_level(rate, move, hz):
    levels = []
    for peak_db in (-40.0, -23.0, -6.0):
        told, alias_db = harmonics_db(move, hz, 10 ** (peak_db / 20), rate)
        assert alias_db < -80.0
        levels.append(10 * np.log10(np.sum(10 ** (told[1:] / 10))))
    assert np.ptp(levels) < 1.5
    assert np.mean(levels) == pytest.approx(-10.0, abs=1.5)


def test_the_ceiling_holds_and_soft_sound_is_louder_by_the_drive():
    loud = np.sin(2 * np.pi * 500 * np.arange(48_000) / 48_000)[None]
    y = run(loud, Drive(drive_db=18.0, ceiling_dbfs=-6.0))
    assert np.max(np.abs(y)) < 10 ** (-6.0 / 20) * 1.06
    soft = 1e-3 * np.sin(2 * np.pi * 500 * np.arange(48_000) / 48_000)[None]
    driven = run(soft, Drive(drive_db=12.0, ceiling_dbfs=0.0))
    assert np.std(driven[:, 4_800:]) / np.std(soft[:, 4_800:]) == pytest.approx(10 ** (12.0 / 20), rel=1e-3)


def test_where_there_is_nothing_to_do_every_bit_passes():
    x = np.random.default_rng(2).standard_normal((2, 19_200)) * 0.3
    for move in (
        Drive(drive_db=0.0),
        Drive(on=False),
        Warmth(on=False),
        Air(on=False),
        Trim(gain_db=0.0),
        Trim(gain_db=9, on=False),
    ):
        assert np.array_equal(run(x, move), x), move


def test_trim_is_its_gain():
    x = np.random.default_rng(3).standard_normal((1, 9_600))
    assert np.allclose(run(x, Trim(gain_db=-6.0)), x * 10 ** (-6.0 / 20), rtol=1e-12)


@pytest.mark.parametrize("move", [Warmth(amount_db=-14), Air(amount_db=-14)])
def test_what_is_added_lies_on_its_own_side(move):
    """Of two tones in the band there are tones of differences as well; they are not let through."""
    hz = (90.0, 140.0) if isinstance(move, Warmth) else (5_000.0, 5_700.0)
    t = np.arange(96_000) / 48_000
    x = 0.2 * sum(np.sin(2 * np.pi * one * t) for one in hz)[None]
    added = (run(x, move) - x)[0, 24_000:]
    power = np.abs(np.fft.rfft(added * np.hanning(len(added)))) ** 2
    at = np.fft.rfftfreq(len(added), 1 / 48_000)
    inside = (at > 60) & (at < 1_500) if isinstance(move, Warmth) else at > 3_500
    assert power[inside].sum() > 0.95 * power.sum()


@pytest.mark.parametrize("share", [0.3, 0.5])
def test_what_cuts_took_comes_back_by_the_share_and_outside_of_the_cuts(share):
    x, fault = played(25), Bell(hz=2_200, gain_db=-9, q=12)
    cuts = (LowCut(hz=260, slope_db_per_octave=24), HighShelf(hz=4_500, gain_db=-7), fault)
    told = give_back(x, lambda moves: run(x, *moves, *cuts), share=share, cured_hz=(fault.hz,), sample_rate_hz=48_000)
    assert {move.kind for move in told.moves} == {"warmth", "air"}
    assert told.left_low == pytest.approx((1 - share) * told.lost_low, abs=0.03)
    assert told.left_high == pytest.approx((1 - share) * told.lost_high, abs=0.03)
    assert told.inside_cuts < 0.25
    nothing = give_back(x, lambda moves: run(x, *moves), share=share, cured_hz=(), sample_rate_hz=48_000)
    assert nothing.moves == ()


def test_a_cured_fault_stays_where_it_is_also_where_less_is_given_back_for_it():
    x = played(25)
    cuts = (LowCut(hz=260, slope_db_per_octave=24), Bell(hz=700, gain_db=-9, q=12))
    told = give_back(x, lambda moves: run(x, *moves, *cuts), share=0.5, cured_hz=(700.0,), sample_rate_hz=48_000)
    near = np.abs(np.log2(FREQS_HZ / 700.0)) < 1 / 24
    change = (levels_db(run(x, *told.moves, *cuts)) - levels_db(run(x, *cuts)))[:, near]
    assert np.mean(change) < 1.5
    assert told.left_low > 0.6 * told.lost_low
