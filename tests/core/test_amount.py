"""The amount of a strip: at 0 the untreated sound and at 100 the ledger, to the bit; between and beyond as defined."""

import json

import numpy as np
import pytest
import soundfile
from typer.testing import CliRunner

from mivlo.cli import app
from mivlo.core.engine.mix import Mix
from mivlo.core.engine.player import Player
from mivlo.core.engine.render import render_moves
from mivlo.core.engine.source import ArraySource
from mivlo.core.moves.bell import Bell
from mivlo.core.moves.compressor import Compressor
from mivlo.core.moves.drive import Drive
from mivlo.core.moves.dynamic_bell import DynamicBell
from mivlo.core.moves.low_cut import LowCut
from mivlo.core.moves.notch import Notch
from mivlo.core.moves.plane import Plane
from mivlo.core.moves.room import Room
from mivlo.core.moves.trim import Trim
from mivlo.core.moves.warmth import Warmth
from mivlo.core.responses import responses
from mivlo.core.settings_list import list_rows

from .test_engine import RATE, noise, strip
from .test_every_kind import EVERY_KIND


def through(x: np.ndarray, *moves, amount: float) -> np.ndarray:
    return np.concatenate(list(render_moves(ArraySource(x), moves, sample_rate_hz=RATE, amount=amount)), axis=1)


def test_at_0_the_sound_passes_and_at_100_the_ledger_acts_to_the_bit():
    x = noise(1.0)
    moves = [one.model_copy(update={"listens_to": ""}) if hasattr(one, "listens_to") else one
             for one in EVERY_KIND.values()]  # fmt: skip
    whole = np.concatenate(list(render_moves(ArraySource(x), moves, sample_rate_hz=RATE)), axis=1)
    assert np.array_equal(through(x, *moves, amount=100.0), whole)
    assert np.array_equal(through(x, *moves, amount=0.0), x)
    assert not np.array_equal(through(x, *moves, amount=0.1), x)  # cuts stay whole at every amount above 0


@pytest.mark.parametrize("amount", [30.0, 150.0])
def test_what_is_added_is_scaled_and_what_is_cut_is_cut_less_or_more(amount):
    x, part = noise(1.0), amount / 100.0
    for move in (Room(wet_db=-3.0), Warmth(amount_db=-6.0), Compressor(ratio=1.0, placing="beside")):
        added = through(x, move, amount=100.0) - x
        assert np.allclose(through(x, move, amount=amount) - x, part * added, atol=1e-12), move.kind
    bell = Bell(hz=900, gain_db=-8, q=2)
    assert np.array_equal(through(x, bell, amount=amount), through(x, Bell(hz=900, gain_db=-8 * part, q=2), amount=100))
    for whole in (LowCut(hz=100), Notch(hz=700), Trim(gain_db=-4)):
        assert np.array_equal(through(x, whole, amount=amount), through(x, whole, amount=100.0)), whole.kind
    dynamic = DynamicBell(hz=900, depth_db=-6, rest_db=1, threshold_db=-60)
    scaled = dynamic.model_copy(update={"depth_db": -6 * part, "rest_db": part})
    assert np.array_equal(through(x, dynamic, amount=amount), through(x, scaled, amount=100.0))


def test_a_compressor_takes_its_share_and_drive_is_mixed_with_the_sound_itself():
    t = np.arange(RATE) / RATE
    x = 0.5 * np.sin(2 * np.pi * 440 * t)[None]
    move = Compressor(threshold_db=-30, ratio=4, makeup_db=4)

    def gain_db(amount: float) -> float:
        return 20 * np.log10(np.std(through(x, move, amount=amount)[0, 24_000:]) / np.std(x[0, 24_000:]))

    assert gain_db(50.0) == pytest.approx(0.5 * gain_db(100.0), abs=0.02)
    drive, y = Drive(drive_db=9), noise(0.5)
    driven = through(y, drive, amount=100.0)
    assert np.allclose(through(y, drive, amount=40.0), y + 0.4 * (driven - y), atol=1e-12)
    assert np.array_equal(through(y, drive, amount=150.0), driven)  # there is no more than all of it


def test_beyond_a_limit_it_is_held_and_told():
    deep, flat = Bell(hz=900, gain_db=-24, q=2), Bell(hz=900, gain_db=-6, q=2)
    told = responses((deep, flat, Plane(), LowCut(hz=80)), RATE, amount=150.0)
    assert told.held_at_limit == [0, 2]
    assert deep.at_amount(1.5).gain_db == -30.0
    assert min(responses((flat,), RATE, amount=50.0).steady_db) == pytest.approx(-3.0, abs=0.05)
    assert responses((flat, LowCut(hz=80)), RATE, amount=0.0).steady_db[0] == 0.0
    [row] = list_rows([("Voice", strip("a", flat, amount=50.0))], sample_rate_hz=RATE)
    assert (row["gain_db"], row["on"]) == ("-3.00", "yes")


@pytest.mark.parametrize(
    "moves",
    [
        (Bell(hz=440, gain_db=-12, q=1), Compressor(threshold_db=-40), Warmth(hz=500), Room(), Drive(drive_db=3)),
        # What looks ahead must begin to glide when the sound is heard, not when it hears of it.
        (DynamicBell(hz=500, threshold_db=-60, depth_db=-9, lookahead_ms=50),),
        (Compressor(threshold_db=-40, makeup_db=6, lookahead_ms=20),),
    ],
)
def test_it_glides_without_a_click(moves):
    tone = ArraySource(0.3 * np.sin(2 * np.pi * 440 * np.arange(3 * RATE) / RATE)[None])

    def mix(amount: float) -> Mix:
        return Mix(tracks=(strip("t", *moves, amount=amount),))

    player = Player(mix(100.0), lambda _: tone, start_frame=0, sample_rate_hz=RATE)
    parts = [player.render(RATE)]
    for amount in (150.0, 0.0, 60.0):
        player.apply(mix(amount))
        parts.append(player.render(RATE // 2))
    y = np.concatenate(parts, axis=1)[0, 4_800:]
    smooth = np.abs(np.diff(y, n=4))
    # Four differences of a 440 Hz tone of 0.3 are below 1e-5, those of a step six times as high as it is. On and off
    # go by straight lines of 10 ms, whose corners are seen here; a step of 1 dB would be 40 times as high.
    assert smooth.max() < 4e-3


def test_a_treatment_file_has_it_and_the_command_line_goes_by_it(tmp_path):
    x = noise(0.5, 1)
    soundfile.write(tmp_path / "in.wav", x.T, RATE, subtype="FLOAT")
    moves = [{"kind": "bell", "hz": 900, "gain_db": -8, "q": 2}, {"kind": "trim", "gain_db": -20, "stand_in": True}]
    treatment = {"mivlo_treatment": 1, "amount": 50.0, "moves": moves}
    (tmp_path / "t.json").write_text(json.dumps(treatment))

    def applied(*options: str) -> np.ndarray:
        paths = [str(tmp_path / name) for name in ("t.json", "in.wav", "out.wav")]
        assert CliRunner().invoke(app, ["apply", *options, *paths]).exit_code == 0
        return soundfile.read(tmp_path / "out.wav")[0]

    expected = through(x, Bell(hz=900, gain_db=-4, q=2), amount=100.0)[0]
    assert np.max(np.abs(applied() - expected)) < 1e-6
    assert np.max(np.abs(applied("--with-stand-ins") - 0.1 * expected)) < 1e-6
