"""Impulse responses: convolved, they are what `mivlo apply` makes; their length is what leaves -120 dB."""

import json

import numpy as np
import pytest
import soundfile
from scipy.signal import fftconvolve
from typer.testing import CliRunner

from mivlo.cli import app
from mivlo.core.errors import ParameterError
from mivlo.core.impulse import impulse_of, steady_of
from mivlo.core.moves.bell import Bell
from mivlo.core.moves.dynamic_bell import DynamicBell
from mivlo.core.moves.low_cut import LowCut

BOTH = [
    {"kind": "bell", "hz": 431.0, "gain_db": -9.0, "q": 8.0},
    {"kind": "low-cut", "hz": 80.0, "slope_db_per_octave": 24},
    {"kind": "high-shelf", "hz": 6_000.0, "gain_db": 4.0},
]
BY_SIDE = [
    {"kind": "bell", "hz": 900.0, "gain_db": -6.0, "q": 1.0, "channel": "side"},
    {"kind": "notch", "hz": 2_000.0, "q": 12.0, "channel": "left"},
    {"kind": "high-cut", "hz": 9_000.0, "channel": "mid"},
]


def run(*words: object) -> tuple[int, str, str]:
    done = CliRunner().invoke(app, [str(word) for word in words])
    return done.exit_code, done.stdout, done.stderr


def noise(channels: int, rate: int) -> np.ndarray:
    return np.random.default_rng(4).uniform(-1.0, 1.0, (channels, 2 * rate))


@pytest.mark.parametrize(("moves", "rate"), [(BOTH, 48_000), (BOTH, 96_000), (BY_SIDE, 44_100)])
def test_convolved_it_is_what_apply_makes_of_full_scale_noise(tmp_path, moves, rate):
    """Beside scipy's convolution in 64 bits: no sample differs by more than -100 dBFS."""
    (tmp_path / "t.json").write_text(json.dumps({"mivlo_treatment": 1, "moves": moves, "amount": 80}))
    x = noise(2, rate)
    soundfile.write(tmp_path / "in.wav", x.T, rate, "FLOAT")
    assert run("apply", tmp_path / "t.json", tmp_path / "in.wav", tmp_path / "out.wav")[0] == 0
    code, told, _ = run("impulse", tmp_path / "t.json", tmp_path / "ir.wav", "--rate", rate)
    assert (code, "its middle at frame 0" in told) == (0, True)
    ir, ir_rate = soundfile.read(tmp_path / "ir.wav", always_2d=True)
    info = soundfile.info(tmp_path / "ir.wav")
    assert (ir_rate, info.subtype, info.channels) == (rate, "FLOAT", 4 if moves is BY_SIDE else 1)
    x = soundfile.read(tmp_path / "in.wav", always_2d=True)[0].T
    if moves is BY_SIDE:
        ll, lr, rl, rr = ir.T
        made = np.stack([fftconvolve(x[0], ll) + fftconvolve(x[1], rl), fftconvolve(x[0], lr) + fftconvolve(x[1], rr)])
    else:
        made = np.stack([fftconvolve(side, ir[:, 0]) for side in x])
    applied = soundfile.read(tmp_path / "out.wav", always_2d=True)[0].T
    assert np.abs(made[:, : x.shape[1]] - applied).max() < 1e-5


def test_linear_phase_is_symmetrical_around_the_stated_frame_and_has_the_same_levels():
    moves = [Bell(hz=431, gain_db=-9, q=4), LowCut(hz=80)]
    straight, even = (impulse_of(moves, sample_rate_hz=48_000, phase=phase) for phase in ("minimum", "linear"))
    middle, x = even.middle_frame, even.samples[0]
    assert len(x) == 2 * middle + 1
    assert np.abs(x - x[::-1]).max() < 1e-7
    assert np.argmax(np.abs(x)) == middle
    levels = [20 * np.log10(np.abs(np.fft.rfft(one, 1 << 18))) for one in (straight.samples[0], x)]
    hz = np.fft.rfftfreq(1 << 18, 1 / 48_000)
    inside = (hz > 50) & (hz < 20_000)
    assert np.abs(levels[0] - levels[1])[inside].max() < 0.02


def test_its_length_is_what_leaves_120_db_and_a_shorter_one_says_what_is_lost(tmp_path):
    narrow = [Bell(hz=40, gain_db=-12, q=30)]
    whole = impulse_of(narrow, sample_rate_hz=48_000)
    longer = impulse_of([Bell(hz=20, gain_db=-12, q=100)], sample_rate_hz=44_100)
    assert whole.left_out <= 1e-6
    assert longer.samples.shape[1] <= 30 * 44_100
    # One pole pair decays by 8.69 dB in Q / (pi * f) seconds; of a cut's poles, at the depth of the cut.
    expected_s = 120 / 8.69 * 30 * 10 ** (-12 / 40) / (np.pi * 40)
    assert whole.samples.shape[1] / 48_000 == pytest.approx(expected_s, rel=0.5)
    cut = impulse_of(narrow, sample_rate_hz=48_000, seconds=0.2)
    assert cut.samples.shape[1] == 9_600
    assert cut.left_out == pytest.approx(np.abs(whole.samples[0, 9_600:]).sum(), rel=1e-3)
    moves = [{"kind": "bell", "hz": 40.0, "gain_db": -12.0, "q": 30.0}]
    (tmp_path / "t.json").write_text(json.dumps({"mivlo_treatment": 1, "moves": moves}))
    code, _, note = run("impulse", tmp_path / "t.json", tmp_path / "ir.wav", "--rate", 48_000, "--seconds", 0.2)
    assert (code, f"sums up to {cut.left_out_db:.0f} dB" in note) == (0, True)


def test_what_is_not_steady_is_refused_by_name_or_left_out():
    bell = Bell(hz=431, gain_db=-9)
    moves = [bell, DynamicBell(hz=900, threshold_db=-40), Bell(hz=1_000, gain_db=-3, times_s=((1, 2),))]
    with pytest.raises(ParameterError, match=r"dynamic bell \(not steady\), bell \(acts at times only\)"):
        steady_of(moves, steady_only=False)
    assert steady_of(moves, steady_only=True) == (bell,)
    with pytest.raises(ParameterError, match="rate=22050"):
        impulse_of([bell], sample_rate_hz=22_050)
    with pytest.raises(ParameterError, match="at most 30"):
        impulse_of([bell], sample_rate_hz=48_000, seconds=31)
