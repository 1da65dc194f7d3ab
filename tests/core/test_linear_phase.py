"""Static moves in linear phase: the same magnitudes, no phase, for any channel."""

import numpy as np
import pytest
from scipy.signal import ZoomFFT, oaconvolve

from mivlo.core.engine.mix import Mix
from mivlo.core.engine.plan import ledger_specs
from mivlo.core.engine.player import Player
from mivlo.core.engine.render import render_track
from mivlo.core.engine.source import ArraySource
from mivlo.core.filters.biquad import frequency_response
from mivlo.core.filters.linear_phase import (
    has_linear_phase_form,
    kernel_freqs_hz,
    linear_phase_kernel,
    n_taps_for,
    zero_phase_gains,
)
from mivlo.core.model import LedgerEntry, Track
from mivlo.core.moves.bell import Bell
from mivlo.core.moves.dynamic_bell import DynamicBell
from mivlo.core.moves.high_shelf import HighShelf
from mivlo.core.moves.low_cut import LowCut
from mivlo.core.moves.notch import Notch
from mivlo.core.processors.chain import ChainSpec
from mivlo.core.processors.fir import FirSpec, FirStage
from mivlo.core.processors.stage import Context
from mivlo.core.settings_list import list_rows

RATE = 48_000
LEDGERS = {
    "narrow and low": (Bell(hz=60, gain_db=-9, q=12), Bell(hz=431, gain_db=-6, q=30)),
    "wide": (Bell(hz=2_000, gain_db=6, q=0.7), HighShelf(hz=6_000, gain_db=-8, q=0.7071)),
    "cuts": (LowCut(hz=82, slope_db_per_octave=24), LowCut(hz=35, slope_db_per_octave=48), Notch(hz=2_937, q=10)),
}


def impulse_response(moves, phase: str, x: np.ndarray, middle: int, after: int = 131_072) -> np.ndarray:
    ledger = tuple(LedgerEntry(id=str(n), move=move) for n, move in enumerate(moves))
    mix = Mix(tracks=(Track(id="a", audio_id="a", ledger=ledger, phase=phase),))
    source = ArraySource(x)
    blocks = render_track(mix, "a", lambda _: source, start=0, end=x.shape[1], sample_rate_hz=RATE)
    out = np.concatenate(list(blocks), axis=1)
    return out[:, middle - 131_072 : middle + after]


def click(channels: int = 1, which: int = 0) -> np.ndarray:
    x = np.zeros((channels, 300_000))
    x[which, 150_000] = 1.0
    return x


@pytest.mark.parametrize("name", LEDGERS)
def test_magnitudes_agree_with_minimum_phase_within_a_tenth_of_a_db(name):
    least, linear = (impulse_response(LEDGERS[name], phase, click(), 150_000)[0] for phase in ("minimum", "linear"))
    hz = np.fft.rfftfreq(len(least), 1 / RATE)
    chosen = (hz > 20) & (hz < 20_000)
    wanted, got = (20 * np.log10(np.maximum(np.abs(np.fft.rfft(h))[chosen], 1e-9)) for h in (least, linear))
    heard = wanted > -40.0
    assert np.max(np.abs(got - wanted)[heard]) < 0.1


NARROW = (
    *(Bell(hz=hz, gain_db=gain, q=q) for hz in (20, 45, 431) for gain in (-30, -24, 24, 6) for q in (4, 30, 100)),
    *(Notch(hz=hz, q=q) for hz in (25, 50, 107, 400, 800, 3_000) for q in (0.5, 2, 5, 20, 100)),
)


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
def test_what_has_a_form_in_linear_phase_is_within_a_tenth_of_a_db_of_it(rate):
    # The filter's own response close around its narrow place, by scipy's chirp transform.
    formed = [move for move in NARROW if has_linear_phase_form(move.sections(rate))]
    for move in formed:
        sections = move.sections(rate)
        n_taps = n_taps_for(sections)
        gains = np.abs(frequency_response(sections, kernel_freqs_hz(n_taps, rate), sample_rate_hz=rate))
        kernel = linear_phase_kernel(gains, n_taps)
        for reach_hz in (0.03 * move.hz / move.q, 0.5 * move.hz / move.q):
            edges_hz = (move.hz - reach_hz, move.hz + reach_hz)
            got = np.abs(ZoomFFT(n_taps, edges_hz, 1_001, fs=rate, endpoint=True)(kernel))
            wanted = np.abs(frequency_response(sections, np.linspace(*edges_hz, 1_001), sample_rate_hz=rate))
            heard = wanted > 0.01
            assert np.max(np.abs(20 * np.log10(got[heard] / wanted[heard]))) < 0.1, move
    assert len(formed) > 30
    assert Notch(hz=50, q=20) not in formed


def test_a_notch_without_linear_phase_runs_in_minimum_phase_in_its_place():
    bell, notch = Bell(hz=2_000, gain_db=6, q=0.7), Notch(hz=50, q=20)
    ledger = tuple(LedgerEntry(id=str(n), move=move) for n, move in enumerate((bell, notch, bell)))
    state = Track(id="a", audio_id="a", ledger=ledger, phase="linear")
    specs = ledger_specs(state, sample_rate_hz=RATE, read_weights=lambda *_: np.ones(1))
    assert [type(spec) for spec in specs] == [FirSpec, ChainSpec, FirSpec]
    x = np.zeros((1, 1_800_000))
    x[0, 150_000] = 1.0
    least, mixed = (
        impulse_response((bell, notch, bell), phase, x, 150_000, 1_500_000)[0] for phase in ("minimum", "linear")
    )
    edges_hz = (49.0, 51.0)
    wanted, got = (
        20 * np.log10(np.abs(ZoomFFT(len(h), edges_hz, 2_001, fs=RATE, endpoint=True)(h))) for h in (least, mixed)
    )
    assert np.max(np.abs(got - wanted)[wanted > -40.0]) < 0.1
    assert np.min(wanted) < -40.0
    rows = list_rows([("a", state)], sample_rate_hz=RATE)
    assert [row["acts_on"] for row in rows] == ["both, linear phase", "both", "both, linear phase"]


def test_it_is_linear_in_phase_and_in_its_place():
    h = impulse_response(LEDGERS["wide"], "linear", click(), 150_000)[0]
    assert np.argmax(np.abs(h)) == 131_072
    around = slice(131_072 - 2_000, 131_072 + 2_001)
    assert np.max(np.abs(h[around] - h[around][::-1])) < 1e-9


def test_every_channel_of_a_move_is_treated_as_in_minimum_phase():
    mid, left = Bell(hz=1_000, gain_db=-9, q=2, channel="mid"), Bell(hz=3_000, gain_db=6, q=1, channel="left")
    moves = (mid, left, Bell(hz=500, gain_db=4, q=1))
    hz = np.fft.rfftfreq(262_144, 1 / RATE)
    chosen = (hz > 100) & (hz < 10_000)
    for which in (0, 1):
        least, linear = (impulse_response(moves, phase, click(2, which), 150_000) for phase in ("minimum", "linear"))
        # Of the input's own channel the sums of mid and side are near in phase here; what crosses over is the mid's
        # change.
        own = [np.abs(np.fft.rfft(h[which]))[chosen] for h in (least, linear)]
        far = np.abs(20 * np.log10(own[1] / own[0]))
        assert np.max(far) < 1.2
        assert np.median(far) < 0.1
    mid = impulse_response((moves[0],), "linear", np.repeat(click(), 2, axis=0), 150_000)
    assert np.max(np.abs(mid[0] - mid[1])) < 1e-12
    at = 20 * np.log10(np.abs(np.fft.rfft(mid[0]))[round(1_000 / RATE * 262_144)])
    assert at == pytest.approx(-9.0, abs=0.02)


@pytest.mark.parametrize("hz", [60.0, 431.0, 6_000.0])
@pytest.mark.parametrize("channels", [("mid", "left"), ("mid", "side"), ("right", "both"), ("both", "both")])
def test_in_pieces_of_any_size_it_is_the_convolution_of_another_program(hz, channels):
    # Short filters run in one piece, long ones by partitions, in lanes where channels are kept apart: scipy knows of
    # neither.
    moves = (Bell(hz=hz, gain_db=-9, q=8, channel=channels[0]), Bell(hz=3 * hz, gain_db=5, q=4, channel=channels[1]))
    spec = FirSpec("f", tuple((section, move.channel) for move in moves for section in move.sections(RATE)))
    x = 0.1 * np.random.default_rng(3).standard_normal((2, 3 * spec.n_taps + 50_000))
    stage, parts, at = spec.make(2, RATE), [], 1_000
    for count in np.random.default_rng(4).integers(1, 9_000, 400):
        parts.append(stage.process(x[:, at - 1_000 : at - 1_000 + count], Context(at)))
        at += int(count)
        if at > x.shape[1]:
            break
    got = np.concatenate(parts, axis=1)[:, stage.latency_frames :]
    gains = zero_phase_gains(spec.sections, kernel_freqs_hz(spec.n_taps, RATE), n_channels=2, sample_rate_hz=RATE)
    kernel = linear_phase_kernel(gains if gains.ndim == 3 else np.eye(2)[:, :, None] * gains, spec.n_taps)
    wanted = [sum(oaconvolve(x[i], kernel[out, i]) for i in (0, 1)) for out in (0, 1)]
    half = spec.n_taps // 2
    assert got.shape[1] > spec.n_taps
    assert np.max(np.abs(got - np.array(wanted)[:, half : half + got.shape[1]])) < 1e-12


def test_leaving_out_what_nobody_takes_after_a_change_changes_nothing(monkeypatch):
    x = 0.1 * np.random.default_rng(8).standard_normal((2, 6 * RATE))

    def played() -> np.ndarray:
        def mix(gain_db: float, threshold_db: float) -> Mix:
            moves = (
                Bell(hz=100, gain_db=gain_db, q=12), DynamicBell(hz=900, threshold_db=threshold_db, lookahead_ms=20),
                Bell(hz=300, gain_db=-gain_db, q=10, channel="mid"),
            )  # fmt: skip
            ledger = tuple(LedgerEntry(id=str(n), move=move) for n, move in enumerate(moves))
            return Mix(tracks=(Track(id="a", audio_id="a", ledger=ledger, phase="linear"),))

        player = Player(mix(-6, -50), lambda _: ArraySource(x), start_frame=RATE, sample_rate_hz=RATE)
        parts = [player.render(3_000)]
        for gain_db, threshold_db, n_frames in (
            (-9, -50, 700),
            (-9, -60, 12_000),
            (3, -60, 100),
            (4, -60, 64),
            (5, -55, 50_000),
        ):
            player.apply(mix(gain_db, threshold_db))
            parts.append(player.render(n_frames))
        return np.concatenate(parts, axis=1)

    shortened, block, left_out = played(), FirStage._block, []

    def block_of_all(stage: FirStage, part: np.ndarray, place: int, *, is_wanted: bool) -> np.ndarray:
        left_out.append(not is_wanted)
        return block(stage, part, place, is_wanted=True)

    monkeypatch.setattr(FirStage, "_block", block_of_all)
    assert np.array_equal(shortened, played())
    assert sum(left_out) > 30
    assert np.max(np.abs(shortened[:, -1_000:])) > 0.01
