"""What every kind of move in the registry must do, and what it takes to be one."""

import itertools
import json
import re
import typing

import numpy as np
import pytest
import scipy.signal
from pydantic import TypeAdapter, ValidationError

from mivlo.core.errors import ConflictError, NotFoundError, ParameterError, TreatmentError
from mivlo.core.filters import analog
from mivlo.core.filters.biquad import frequency_response
from mivlo.core.moves import MOVE_KINDS, Move
from mivlo.core.moves.bell import Bell
from mivlo.core.moves.capabilities import Responds, Sliced
from mivlo.core.moves.figures import describe_kinds
from mivlo.core.moves.note_family import NoteFamily
from mivlo.core.roles import ROLES, role_of_name
from mivlo.core.treatment import parse_treatment
from mivlo.core.units import db_to_gain, gain_to_db, hz_to_note

RATE = 48_000.0
HZ = np.geomspace(20.0, 20_000.0, 400)


STATIC = [kind for kind, model in MOVE_KINDS.items() if model.family == "static"]


def example(kind: str, hz: float) -> Move:
    """Return a move of a kind as a form would start it, at a frequency."""
    figures = next(one for one in describe_kinds() if one.kind == kind).figures
    values = {figure.name: figure.start for figure in figures if figure.start is not None}
    has_place = "hz" in MOVE_KINDS[kind].model_fields and "hz" not in values
    return MOVE_KINDS[kind].model_validate(values | ({"hz": hz} if has_place else {}))


def level_db(h: np.ndarray) -> np.ndarray:
    return 20.0 * np.log10(np.maximum(np.abs(h), 1e-9))


def test_the_union_is_the_registry():
    union = typing.get_args(typing.get_args(Move)[0])
    assert set(union) == set(MOVE_KINDS.values())
    assert set(MOVE_KINDS) >= {"bell", "low-shelf", "high-shelf", "low-cut", "high-cut", "notch"}


@pytest.mark.parametrize("kind", MOVE_KINDS)
def test_a_form_can_be_made_of_every_kind(kind):
    described = next(one for one in describe_kinds() if one.kind == kind)
    assert described.label
    assert described.summary
    for figure in described.figures:
        assert figure.title
        if figure.control == "number":
            assert figure.unit in ("Hz", "dB", "Q", "dB/octave", "dBFS", "ms", "s", ":1", "ct", "%", "B", "")
            assert figure.minimum is not None
            assert figure.maximum is not None
        assert figure.choices or figure.control != "choice"
        assert figure.start is not None or figure.optional or figure.name == "hz"
    for start in described.starts:
        # A ready-made start is plain values of the move's own figures, in their ranges.
        assert MOVE_KINDS[kind].model_validate(example(kind, 431.0).model_dump() | start.values)
    adapter = TypeAdapter(Move)
    move = example(kind, 431.0)
    assert adapter.validate_json(adapter.dump_json(move)) == move
    with pytest.raises(ValidationError):
        adapter.validate_python({**move.model_dump(), "unheard_of": 1})
    with pytest.raises(ValidationError):
        adapter.validate_python({**move.model_dump(), "hz": float("nan")})
    for figure in described.figures:
        if figure.control == "number" and not figure.choices:
            for absurd in (figure.minimum - 1.0, figure.maximum + 1.0):
                treatment = {"mivlo_treatment": 1, "moves": [{**move.model_dump(), figure.name: absurd}]}
                limits = re.escape(f"{figure.minimum:g} to {figure.maximum:g}")
                with pytest.raises(TreatmentError, match=rf"{figure.name}.*{limits}"):
                    parse_treatment(json.dumps(treatment), name="t")


@pytest.mark.parametrize(("kind", "hz"), list(itertools.product(STATIC, (60.0, 431.0, 5_000.0))))
def test_every_move_follows_the_shape_it_promises(kind, hz):
    move = example(kind, hz)
    promised = np.ones(len(HZ), dtype=complex)
    for section in move.analog_sections():
        w = 2.0 * np.pi * section.hz
        scale = np.array([1.0 / w**2, 1.0 / w, 1.0])
        promised *= scipy.signal.freqs(section.b * scale, section.a * scale, 2.0 * np.pi * HZ)[1]
    assert np.allclose(analog.response(move.analog_sections(), HZ), promised)
    error = level_db(frequency_response(move.sections(RATE), HZ, sample_rate_hz=RATE)) - level_db(promised)
    assert np.max(np.abs(error[level_db(promised) > -40.0])) < (0.5 if "cut" in kind else 0.25)


@pytest.mark.parametrize("kind", [kind for kind, model in MOVE_KINDS.items() if issubclass(model, Sliced)])
def test_the_slice_of_a_move_is_the_region_it_acts_on(kind):
    """Where the move changes most, its slice is loudest; where it changes nothing, the slice is silent."""
    move = example(kind, 1_000.0)
    if isinstance(move, Responds):
        change = np.abs(level_db(move.response(HZ, RATE)))
    else:
        change = np.where((move.low_hz < HZ) & (move.high_hz > HZ), 1.0, np.where((HZ > 60) & (HZ < 18_000), 0.5, 0.0))
    heard = level_db(frequency_response(move.slice_sections(RATE), HZ, sample_rate_hz=RATE))
    assert np.max(heard) == pytest.approx(0.0, abs=1.0)
    assert np.max(heard[change > 0.7 * np.max(change)]) > -3.0
    untouched = change < 0.02
    if np.any(untouched) and kind != "note-family":  # of a family, the note itself is heard
        assert np.min(heard[untouched]) < -20.0


def test_moves_in_series_add_up():
    moves = [Bell(hz=300, gain_db=-6, q=2), Bell(hz=3_000, gain_db=4, q=1)]
    alone = [level_db(frequency_response(move.sections(RATE), HZ, sample_rate_hz=RATE)) for move in moves]
    both = frequency_response([s for move in moves for s in move.sections(RATE)], HZ, sample_rate_hz=RATE)
    assert level_db(both) == pytest.approx(alone[0] + alone[1], abs=1e-9)


def test_a_note_family_has_the_partials_of_stiff_strings():
    # references.md 5.4: f_n = n·f0·sqrt(1 + B·n²) (Fletcher and Rossing, from memory); here f1 is the note itself.
    published = [
        110.0055,
        220.044,
        330.1485,
        440.3519,
        550.6871,
        661.1869,
        771.8842,
        882.8115,
        994.0014,
    ]  # its first ones
    family = NoteFamily(hz=110.0, stretch=1e-4, count=20)
    wanted = [n * 110.0 * np.sqrt((1 + 1e-4 * n * n) / (1 + 1e-4)) for n in range(1, 21)]
    assert family.member_hz() == pytest.approx(wanted, rel=1e-9)
    assert np.array(family.member_hz()[:9]) / 110.0 == pytest.approx(np.array(published) / published[0], rel=1e-6)
    assert NoteFamily(hz=50.0, count=4, left_out=(2,)).member_hz() == pytest.approx([50.0, 150.0, 200.0])
    assert NoteFamily(hz=440.0, members="octaves", count=3).member_hz() == pytest.approx([440.0, 880.0, 1_760.0])
    hum = NoteFamily(hz=50.0, gain_db=-24.0, width_cents=40.0, count=5)
    at = level_db(hum.response(np.array([50.0, 75.0, 100.0, 150.0, 250.0, 300.0]), RATE))
    assert at[[0, 2, 3, 4]] == pytest.approx(-24.0, abs=0.6)
    assert np.max(np.abs(at[[1, 5]])) < 0.5


def test_a_move_at_zero_does_nothing():
    h = frequency_response(Bell(hz=431, gain_db=0, q=4).sections(RATE), HZ, sample_rate_hz=RATE)
    assert np.max(np.abs(h - 1.0)) < 1e-12


def test_notes_and_decibels():
    # Twelve-tone equal temperament, A4 = 440 Hz: A0 27.5, E2 82.4069, C4 261.6256 (ISO 16:1975, from memory).
    for hz, name in ((27.5, "A0"), (82.4069, "E2"), (261.6256, "C4"), (739.9888, "F#5")):
        note, cents = hz_to_note(hz)
        assert note == name
        assert cents == pytest.approx(0.0, abs=0.01)
    assert hz_to_note(431.0)[1] == pytest.approx(-35.78, abs=0.01)
    assert gain_to_db(db_to_gain(-6.0)) == pytest.approx(-6.0)
    assert gain_to_db(0.0) == pytest.approx(-300.0)


def test_errors_carry_the_code_by_which_the_page_knows_them():
    assert {error("x").code for error in (ParameterError, NotFoundError, ConflictError)} == {
        "bad-parameter", "not-found", "conflict",
    }  # fmt: skip


def test_roles_are_those_of_the_trade():
    assert set(ROLES) >= {
        "lead voice",
        "kick",
        "snare",
        "bass",
        "acoustic guitar",
        "keys",
        "reeds",
        "woodwind",
        "drum kit",
        "strings",
        "brass",
        "other",
    }


def test_the_name_of_a_file_tells_what_plays():
    # Words that files are named by: common practice, no source.
    said = {
        "Lead Vox 2": "lead voice",
        "voice take": "lead voice",
        "BGV L": "backing voice",
        "01_Kick In": "kick",
        "BassDrum": "kick",
        "snareTop": "snare",
        "Rack Tom 1": "toms",
        "OH-L": "cymbals",
        "Bass DI": "bass",
        "AcGtr_3": "acoustic guitar",
        "guitar dist": "electric guitar",
        "Grand Piano": "keys",
        "Alto Sax": "reeds",
        "Cello": "strings",
        "tpt": "brass",
        "backing track": "full backing",
        "Shaker": "hand percussion",
        "hand claps": "hand percussion",
        "Drum bus": "drum kit",
        "kit_mono": "drum kit",
        "loop 96": "drum kit",
        "Bass Flute": "woodwind",
        "picc": "other",
        "Recorder 2": "woodwind",
    }
    assert {name: role_of_name(name) for name in said} == said
    # A word within another one says nothing, nor does a number.
    assert {role_of_name(name) for name in ("Track 07", "take 3", "heads", "invoice", "basset", "snap", "")} == {
        "other"
    }
