"""From a ledger to the stages that it is, and moves in files: order, neighbours, phase, channels, keepers."""

import json

import numpy as np
import pytest
import soundfile
from typer.testing import CliRunner

from mivlo.cli import app
from mivlo.core.engine.audition import audition_spec
from mivlo.core.engine.mix import Mix, Probe, Slice
from mivlo.core.engine.plan import ledger_specs, static_sections
from mivlo.core.errors import ParameterError
from mivlo.core.model import Keeper, LedgerEntry, Track
from mivlo.core.moves import MOVE_KINDS, Move
from mivlo.core.moves.bell import Bell
from mivlo.core.moves.capabilities import Responds
from mivlo.core.moves.dynamic_bell import DynamicBell
from mivlo.core.moves.dynamic_low_cut import DynamicLowCut
from mivlo.core.moves.low_cut import LowCut
from mivlo.core.moves.plane import Plane
from mivlo.core.processors.chain import ChainSpec
from mivlo.core.processors.dynamic import Blend, DynamicSpec, GainTable
from mivlo.core.processors.fir import FirSpec
from mivlo.core.processors.plane import PlaneSpec
from mivlo.core.treatment import parse_treatment, treatment_response

RATE = 48_000


def specs_of(state: Track, *, sample_rate_hz: float) -> list:
    return ledger_specs(state, sample_rate_hz=sample_rate_hz, read_weights=lambda _, __, n: np.ones(n))


def track(*moves: Move, **fields) -> Track:
    return Track(
        id="t", audio_id="t", ledger=tuple(LedgerEntry(id=f"e{i}", move=move) for i, move in enumerate(moves)), **fields
    )


def test_neighbours_that_stand_still_share_a_stage_and_the_order_is_the_ledgers():
    state = track(Bell(hz=300), LowCut(hz=80), DynamicBell(hz=2_000), Bell(hz=5_000), Plane(), DynamicLowCut(hz=100))
    specs = specs_of(state, sample_rate_hz=RATE)
    assert [type(spec) for spec in specs] == [ChainSpec, DynamicSpec, ChainSpec, PlaneSpec, DynamicSpec]
    assert [spec.key for spec in specs] == ["static 0", "e2", "static 1", "e4", "e5"]
    assert isinstance(specs[1].shape, Blend)
    assert isinstance(specs[4].shape, GainTable)
    linear = specs_of(track(Bell(hz=300), DynamicBell(hz=2_000), phase="linear"), sample_rate_hz=RATE)
    assert [type(spec) for spec in linear] == [FirSpec, DynamicSpec]


def test_what_can_glide_keeps_its_structure_and_what_cannot_does_not():
    def structure(*moves: Move, **fields) -> list[object]:
        return [spec.structure() for spec in specs_of(track(*moves, **fields), sample_rate_hz=RATE)]

    one = DynamicBell(hz=2_000, lookahead_ms=10)
    same = one.model_copy(
        update={"hz": 3_000.0, "depth_db": -9.0, "threshold_db": -50.0, "on": False, "release_ms": 10.0}
    )
    assert structure(one) == structure(same)
    for changed in ({"lookahead_ms": 20.0}, {"channel": "mid"}, {"listens_to": "v"}):
        assert structure(one) != structure(one.model_copy(update=changed))
    assert structure(Bell(hz=300)) == structure(Bell(hz=900, gain_db=6), Bell(hz=50))
    assert structure(Bell(hz=300)) != structure(Bell(hz=300), phase="linear")
    assert structure(Plane()) == structure(Plane(amount=10, low_hz=2_000))


def test_switches_channels_and_keepers_reach_the_stages():
    state = track(
        Bell(hz=300, channel="mid"),
        Bell(hz=500, on=False),
        Plane(),
        ledger_on=True,
        keepers=(Keeper(low_hz=900, high_hz=1_100),),
    )
    chain, plane = specs_of(state, sample_rate_hz=RATE)
    told = {(keyed.key.split("/")[0], keyed.on, keyed.channel) for keyed in chain.sections}
    assert told == {("e0", True, "mid"), ("e1", False, "both")}
    assert plane.figures.keepers == ((900.0, 1_100.0),)
    off = specs_of(state.model_copy(update={"ledger_on": False}), sample_rate_hz=RATE)
    assert not any(keyed.on for keyed in off[0].sections)
    assert not off[1].figures.on
    assert len(static_sections(state, sample_rate_hz=RATE, at_s=0.0)) >= 2
    linear = specs_of(state.model_copy(update={"phase": "linear"}), sample_rate_hz=RATE)
    assert [channel for _, channel in linear[0].sections] == ["mid"] * len(
        linear[0].sections
    )  # what is off is not in it


def test_probe_and_slice_stand_behind_the_ledger_of_their_own_track():
    state = track(Bell(hz=300), DynamicBell(hz=2_000))
    mix = Mix(tracks=(state,), probe=Probe(track_id="t", hz=700), slice=Slice(track_id="t", entry_id="e1"))
    keys = [keyed.key for keyed in audition_spec(state, mix, sample_rate_hz=RATE).sections]
    assert keys[0] == "slice:e1/0"
    assert keys[-1].startswith("probe:lift/")
    other = state.model_copy(update={"id": "u"})
    assert audition_spec(other, mix, sample_rate_hz=RATE).sections == ()


def test_a_move_that_does_not_fit_the_rate_is_refused_whatever_its_kind():
    for move in (Bell(hz=19_900), DynamicBell(hz=19_900), DynamicBell(hz=1_000, key_hz=19_900)):
        with pytest.raises(ParameterError, match=r"must be at most 15680 Hz"):
            specs_of(track(move), sample_rate_hz=32_000)
    with pytest.raises(ValueError, match=r"high_hz=1000 must be at least 1\.25 times low_hz=900"):
        Plane(low_hz=900, high_hz=1_000)


@pytest.mark.parametrize("kind", MOVE_KINDS)
def test_every_kind_is_read_from_a_file_and_answers_for_itself(kind):
    needs_place = "hz" in MOVE_KINDS[kind].model_fields and MOVE_KINDS[kind].model_fields["hz"].is_required()
    figures = {"kind": kind} | ({"hz": 700.0} if needs_place else {})
    treatment = parse_treatment(json.dumps({"mivlo_treatment": 1, "moves": [figures]}), name="t")
    h = treatment_response(treatment.moves, np.geomspace(20, 20_000, 300), RATE)
    changed = np.max(np.abs(20 * np.log10(np.maximum(np.abs(h), 1e-6))))
    assert (changed > 1.0) == issubclass(MOVE_KINDS[kind], Responds)
    off = treatment.moves[0].model_copy(update={"on": False})
    assert np.all(treatment_response([off], np.array([700.0]), RATE) == 1.0)


def test_the_command_line_applies_moves_of_every_family(tmp_path):
    x = 0.2 * np.random.default_rng(1).standard_normal((RATE, 2))
    soundfile.write(tmp_path / "in.wav", x, RATE, subtype="FLOAT")
    moves = [
        {"kind": "dynamic-bell", "hz": 1_000, "q": 1, "threshold_db": -60, "depth_db": -12, "channel": "left"},
        {"kind": "note-family", "hz": 50, "count": 3}, {"kind": "plane"},
    ]  # fmt: skip
    (tmp_path / "t.json").write_text(json.dumps({"mivlo_treatment": 1, "moves": moves}))
    done = CliRunner().invoke(
        app, ["apply", str(tmp_path / "t.json"), str(tmp_path / "in.wav"), str(tmp_path / "out.wav")]
    )
    assert done.exit_code == 0, done.output
    y, rate = soundfile.read(tmp_path / "out.wav")
    assert (rate, y.shape) == (RATE, x.shape)
    spectrum = [np.abs(np.fft.rfft(s, axis=0)) ** 2 for s in (x, y)]
    band = (np.fft.rfftfreq(RATE, 1 / RATE) > 950) & (np.fft.rfftfreq(RATE, 1 / RATE) < 1_050)
    fall = 10 * np.log10(spectrum[1][band].sum(axis=0) / spectrum[0][band].sum(axis=0))
    assert fall[0] < -8.0
    assert abs(fall[1]) < 0.5
    listening = [{"kind": "dynamic-bell", "hz": 1_000, "listens_to": "voice"}]
    (tmp_path / "k.json").write_text(json.dumps({"mivlo_treatment": 1, "moves": listening}))
    noted = CliRunner().invoke(
        app, ["apply", str(tmp_path / "k.json"), str(tmp_path / "in.wav"), str(tmp_path / "out2.wav")]
    )
    assert "hear silence in a single file" in noted.output
    same, _ = soundfile.read(tmp_path / "out2.wav")
    assert np.max(np.abs(same - x)) < 1e-6
