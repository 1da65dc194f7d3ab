"""The room as defined: decay by Schroeder integration (ISO 3382-1, T20), echo density (J. Abel, P. Huang, AES 121st
convention, 2006, from memory), mono, rings, and where it stands.
"""

from math import erfc, sqrt

import numpy as np
import pytest
from scipy.signal import butter, sosfilt

from mivlo.core.engine.mix import Mix
from mivlo.core.engine.player import Player
from mivlo.core.engine.source import ArraySource
from mivlo.core.finder.suspects import find
from mivlo.core.model import Group, LedgerEntry, Send, Track
from mivlo.core.moves.room import Room
from mivlo.core.processors.stage import Context

from .planted import run

BARE = {"wet_db": 0.0, "predelay_ms": 0.0, "low_cut_hz": None, "damping_hz": None, "keeps_sound": False}


def answer(move: Room, seconds: float, *, n_channels: int = 2, rate: int = 48_000) -> np.ndarray:
    x = np.zeros((n_channels, round(seconds * rate) // 64 * 64))
    x[:, 0] = 1.0
    stage = move.stage("r", on=True, keepers=(), sample_rate_hz=rate).make(n_channels, rate)
    return stage.process(x, Context(0))


def decay_s(h: np.ndarray, hz: float, rate: int) -> float:
    band = sosfilt(butter(4, [hz / sqrt(2), hz * sqrt(2)], "bandpass", fs=rate, output="sos"), h)
    left = np.cumsum(band[::-1] ** 2)[::-1]
    left_db = 10 * np.log10(left / left[0] + 1e-30)
    a, b = int(np.argmax(left_db < -5)), int(np.argmax(left_db < -25))
    return -60.0 / float(np.polyfit(np.arange(a, b) / rate, left_db[a:b], 1)[0])


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
@pytest.mark.parametrize(("wanted_s", "within"), [(0.3, 0.2), (0.5, 0.1), (1.0, 0.1), (3.0, 0.1), (8.0, 0.1)])
def test_it_dies_away_in_the_time_that_it_says(rate, wanted_s, within):
    h = answer(Room(decay_s=wanted_s, **BARE), max(1.0, 1.1 * wanted_s), rate=rate)
    for hz in (500.0, 1_000.0, 2_000.0):
        assert decay_s(h[0], hz, rate) == pytest.approx(wanted_s, rel=within)


@pytest.mark.parametrize("decay_s_", [0.5, 3.0])
def test_echoes_are_as_dense_as_noise_within_80_ms(decay_s_):
    h = answer(Room(decay_s=decay_s_, **BARE), 0.5)[0]
    n, densities = 960, []
    weights = np.hanning(n) / np.hanning(n).sum()
    for start in range(0, 4_320, 60):
        part = h[start : start + n]
        spread = np.sqrt((weights * part**2).sum())
        densities.append((weights * (np.abs(part) > spread)).sum() / erfc(1 / sqrt(2)) if spread > 1e-6 else 0.0)
    assert max(densities[: round((0.080 * 48_000 - n / 2) / 60)]) >= 0.9


def test_its_sides_are_unrelated_but_do_not_cancel_in_mono():
    h = answer(Room(decay_s=3.0, **BARE), 5.0)
    hz = np.fft.rfftfreq(h.shape[1], 1 / 48_000)
    sides, mono = np.abs(np.fft.rfft(h, axis=1)) ** 2, np.abs(np.fft.rfft(h.mean(axis=0))) ** 2
    for k in range(-10, 14):
        part = (hz > 1_000 * 2 ** ((k - 0.5) / 3)) & (hz < 1_000 * 2 ** ((k + 0.5) / 3))
        assert 10 * np.log10(mono[part].sum() / sides[:, part].mean(axis=0).sum()) > -6.0
    assert abs(np.corrcoef(h)[0, 1]) < 0.1
    narrow = answer(Room(decay_s=1.0, width=0.0, **BARE), 1.0)
    assert np.allclose(narrow[0], narrow[1])
    assert np.sum(h[0] ** 2) == pytest.approx(1.0, rel=0.2)  # at 0 dB as much as went in


@pytest.mark.parametrize("decay_s_", [0.6, 2.5])
def test_a_burst_of_noise_rings_at_no_frequency(decay_s_):
    random, n = np.random.default_rng(3), 8 * 48_000
    x = np.zeros((1, n))
    for start in range(0, n - 9_600, 48_000):
        x[0, start : start + 9_600] = 0.2 * random.standard_normal(9_600)
    y = run(x, Room(decay_s=decay_s_, wet_db=0.0, keeps_sound=False))
    found = find(ArraySource(y), start=0, end=n, sample_rate_hz=48_000).suspects
    assert [one for one in found if one.confidence > 0.5] == []


def test_it_leaves_the_sound_as_it_is_and_begins_after_its_delay():
    x = 0.1 * np.random.default_rng(1).standard_normal((2, 19_200))
    y = run(x, Room(predelay_ms=100.0, wet_db=-6.0))
    assert np.array_equal(y[:, :4_800], x[:, :4_800])
    assert np.std((y - x)[:, 9_600:]) > 0.01
    assert np.array_equal(run(x, Room(on=False)), x)
    mono = run(x[:1], Room(wet_db=0.0))
    assert mono.shape == (1, 19_200)
    damped = answer(Room(**BARE | {"damping_hz": 3_000.0}, decay_s=2.0), 2.5)[0]
    assert decay_s(damped, 3_000.0, 48_000) == pytest.approx(1.0, rel=0.25)


def test_tracks_are_sent_to_a_room_that_stands_alone():
    x = ArraySource(0.1 * np.random.default_rng(1).standard_normal((1, 96_000)))
    room = Group(id="r", ledger=(LedgerEntry(id="m", move=Room(predelay_ms=0.0, keeps_sound=False)),))
    track = Track(id="t", audio_id="a", sends=(Send(to_id="r", level_db=-6.0),))

    def heard(mix: Mix) -> np.ndarray:
        return Player(mix, lambda _: x, start_frame=0, sample_rate_hz=48_000).render(48_000)

    dry = heard(Mix(tracks=(track.model_copy(update={"sends": ()}),)))
    sent = heard(Mix(tracks=(track,), groups=(room,)))
    assert np.array_equal(sent[:, :300], dry[:, :300])  # nothing of the sound itself comes a second time
    alone = [Player(Mix(tracks=(track,), groups=(room.model_copy(update=fields),), alone_track_id="t"),
                    lambda _: x, start_frame=0, sample_rate_hz=48_000).render(48_000)
             for fields in ({}, {"stand_in": True}, {"stand_in": True, "mute": True})]  # fmt: skip
    assert np.array_equal(alone[0], dry)
    assert np.array_equal(alone[1], sent)
    assert np.array_equal(alone[2], dry)
