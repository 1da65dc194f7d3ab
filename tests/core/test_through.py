"""Listening through mono, a small loudspeaker and a curve: what is heard, as loud as without, in no file."""

import numpy as np
import pytest
from scipy.signal import welch

from mivlo.core.engine.mix import Mix
from mivlo.core.engine.player import Player
from mivlo.core.engine.render import replay
from mivlo.core.engine.source import ArraySource
from mivlo.core.engine.through import ListenThrough
from mivlo.core.loudness import integrated_loudness
from mivlo.core.model import Track

RATE = 48_000
random = np.random.default_rng(6)
SPECTRUM = np.fft.rfft(random.standard_normal((2, 4 * RATE)), axis=1)
PINK = np.fft.irfft(SPECTRUM / np.sqrt(np.maximum(np.arange(SPECTRUM.shape[1]), 20.0)), axis=1)
PINK *= 0.1 / PINK.std()
MIX = Mix(tracks=(Track(id="t", audio_id="a"),))
CURVE = ListenThrough(kind="curve", curve=((100.0, -12.0), (400.0, 0.0), (2_000.0, 6.0), (8_000.0, -9.0)))


def heard(how: ListenThrough, x: np.ndarray = PINK) -> np.ndarray:
    mix = MIX.model_copy(update={"through": how})
    return Player(mix, lambda _: ArraySource(x), start_frame=0, sample_rate_hz=RATE).render(3 * RATE)


@pytest.mark.parametrize("how", [ListenThrough(kind="mono"), ListenThrough(kind="small-speaker"), CURVE])
def test_it_is_as_loud_as_without(how):
    one_side = np.repeat(PINK[:1], 2, axis=0)
    levels = [integrated_loudness(heard(one, one_side), sample_rate_hz=RATE) for one in (ListenThrough(), how)]
    assert levels[1] == pytest.approx(levels[0], abs=0.3)


def test_mono_is_the_half_sum_and_a_curve_is_its_figures():
    mono = heard(ListenThrough(kind="mono"))
    assert np.allclose(mono, 0.5 * (PINK[:1] + PINK[1:])[:, : 3 * RATE], atol=1e-12)
    hz, before = welch(PINK[0, RATE : 3 * RATE], RATE, nperseg=8_192)
    after = welch(heard(CURVE)[0, RATE:], RATE, nperseg=8_192)[1]
    change = 10 * np.log10(after / before)
    told = [np.mean(change[np.abs(hz - at) < at / 12]) for at in (100.0, 400.0, 2_000.0, 8_000.0)]
    wanted = np.array([one[1] for one in CURVE.curve])
    assert np.allclose(np.array(told) - told[1], wanted - wanted[1], atol=1.0)
    speaker = heard(ListenThrough(kind="small-speaker"))
    assert np.array_equal(speaker[0], speaker[1])


def test_ways_are_changed_without_a_step_and_replayed_to_the_bit():
    player = Player(MIX, lambda _: ArraySource(PINK), start_frame=0, sample_rate_hz=RATE)
    parts, log = [], []
    for how in (ListenThrough(kind="mono"), CURVE, ListenThrough(kind="small-speaker"), ListenThrough()):
        changed = MIX.model_copy(update={"through": how})
        log.append((player.frame, changed))
        player.apply(changed)
        parts.append(player.render(7_001))
    played = np.concatenate(parts, axis=1)
    again = replay(MIX, log, lambda _: ArraySource(PINK), start_frame=0, n_frames=played.shape[1], sample_rate_hz=RATE)
    assert np.array_equal(again, played)
    end = slice(played.shape[1] - 2_000, played.shape[1])
    assert np.allclose(played[:, end], PINK[:, end], atol=1e-12)


def test_the_meter_tells_how_far_both_sides_go_together():
    def told(x: np.ndarray) -> float | None:
        player = Player(MIX, lambda _: ArraySource(x), start_frame=0, sample_rate_hz=RATE)
        player.render(RATE)
        return player.correlation

    assert told(np.stack([PINK[0], -PINK[0]])) == pytest.approx(-1.0)
    assert told(np.stack([PINK[0], PINK[0]])) == pytest.approx(1.0)
    assert abs(told(PINK)) < 0.3
    assert told(0.0 * PINK) is None


def test_a_curve_that_is_none_is_refused():
    with pytest.raises(ValueError, match="two pairs"):
        ListenThrough(kind="curve", curve=((100.0, 0.0),))
    with pytest.raises(ValueError, match="must rise"):
        ListenThrough(kind="curve", curve=((100.0, 0.0), (90.0, 1.0)))
