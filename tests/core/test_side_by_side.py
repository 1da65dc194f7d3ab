"""Two sides on one axis, a reference beside the mix, masking before and after."""

import io

import numpy as np
import pytest
from PIL import Image
from pydantic import ValidationError
from scipy.signal import freqz

from mivlo.core.analyses.base import Need
from mivlo.core.analyses.masking import AskedMasking, Maskings
from mivlo.core.analyses.picture import PICTURE
from mivlo.core.analyses.side_by_side import AskedSidePicture, AskedSides, SidePictures, Sides
from mivlo.core.engine.listening import Compared, Listening, heard_mix, match_question
from mivlo.core.engine.mix import mix_of_session
from mivlo.core.engine.render import render_mix, replay
from mivlo.core.engine.source import ArraySource
from mivlo.core.errors import ConflictError, NotFoundError
from mivlo.core.level_match import loudness_of, matched
from mivlo.core.model import LedgerEntry, RecordedSession, Reference, Remark
from mivlo.core.model.intents import apply_all
from mivlo.core.model.intents.references import RemoveReference, SetReference
from mivlo.core.model.intents.strips import AddRemark, RemoveRemark
from mivlo.core.model.intents.treatments import AddTreatment
from mivlo.core.moves.bell import Bell

from .test_analyses import RATE, SOUNDS, Kept, session

ORGAN, KICK = "1" * 32, "0" * 32


def of_noise(*moves: Bell, **fields) -> RecordedSession:
    """A session of one track of white noise in two channels; its other file is kept as a reference."""
    ledger = [{"id": f"m{number}", "move": move.model_dump()} for number, move in enumerate(moves)]
    base = session()
    track = base.track("organ").model_copy(
        update={"group_id": None, "ledger": tuple(map(LedgerEntry.model_validate, ledger))}
    )
    reference = Reference(id="ref", name="Other people's mix", audio_id=KICK, start_frame=-4_800)
    return base.changed(tracks=(track,), groups=(), references=(reference,), **fields)


def asked_of(kept: Kept, analysis, now: RecordedSession, asked):
    need = Need(analysis, analysis.question(now, asked, lambda _: None))
    kept.computed(need)
    return kept.result(need), kept.folder / need.key


@pytest.fixture(scope="module")
def kept(tmp_path_factory) -> Kept:
    return Kept(tmp_path_factory.mktemp("sides"))


@pytest.mark.parametrize("strip_id", [None, "organ"])
def test_the_spectra_of_both_sides_differ_by_the_response_of_the_moves(kept: Kept, strip_id):
    """Beside the response of the published formulae: R. Bristow-Johnson, Audio EQ Cookbook, evaluated by scipy."""
    told, _ = asked_of(kept, Sides(), of_noise(Bell(hz=1_000, gain_db=-12, q=1)), AskedSides(strip_id=strip_id))
    amp, w0 = 10.0 ** (-12 / 40), 2 * np.pi * 1_000 / RATE
    alpha = np.sin(w0) / 2.0
    b, a = [1 + alpha * amp, -2 * np.cos(w0), 1 - alpha * amp], [1 + alpha / amp, -2 * np.cos(w0), 1 - alpha / amp]
    hz = np.array(told.hz)
    inside = (hz > 200) & (hz < 5_000)
    expected = 20 * np.log10(np.abs(freqz(b, a, hz[inside], fs=RATE)[1]))
    seen = (np.array(told.after_db) - told.before_db)[inside]
    assert np.abs(seen - expected).max() < 1.0
    assert told.before.loudness_lufs > told.after.loudness_lufs
    assert told.match.match_before_db == pytest.approx(told.after.loudness_lufs - told.before.loudness_lufs, abs=1e-6)


def test_a_picture_of_the_difference_is_black_where_something_went_and_white_where_it_came(kept: Kept):
    now = of_noise(Bell(hz=300, gain_db=-12, q=2), Bell(hz=4_000, gain_db=9, q=2))
    asked = AskedSidePicture(shows="difference", place={"time_zoom": 3})
    _, folder = asked_of(kept, SidePictures(), now, asked)
    picture = np.array(Image.open(io.BytesIO((folder / PICTURE).read_bytes())).convert("LA"))
    rows_hz = 20.0 * 1000.0 ** ((np.arange(len(picture)) + 0.5) / len(picture))[::-1]
    low, high = (np.abs(np.log2(rows_hz / hz)) < 0.05 for hz in (300.0, 4_000.0))
    columns = slice(20, 250)  # where there is sound
    assert picture[low, columns, 1].mean() > 150
    assert picture[high, columns, 1].mean() > 100
    assert picture[low, columns, 0].mean() < 20
    assert picture[high, columns, 0].mean() > 235
    quiet = (rows_hz > 900) & (rows_hz < 1_300)
    assert picture[quiet, columns, 1].mean() < 30


def test_a_reference_is_heard_beside_the_mix_to_the_bit_and_never_in_it():
    now = of_noise(Bell(hz=1_000, gain_db=-12, q=1))
    sources = {KICK: ArraySource(0.02 * SOUNDS[KICK]), ORGAN: ArraySource(0.05 * SOUNDS[ORGAN])}

    def rendered(mix):
        blocks = render_mix(mix, sources.__getitem__, start=0, end=RATE, sample_rate_hz=RATE)
        return np.concatenate(list(blocks), axis=1)

    own = rendered(mix_of_session(now))
    without = now.changed(references=())
    assert np.array_equal(own, rendered(mix_of_session(without)))
    alone = Listening(strip_id="organ", alone=True, compared=Compared(what="reference", reference_id="ref"))
    question = match_question(now, alone, end_frame=now.end_frame())
    loudness = [
        loudness_of(
            render_mix(mix, sources.__getitem__, start=question.start, end=question.end, sample_rate_hz=RATE),
            sample_rate_hz=RATE,
        )
        for mix in (question.without, question.within)
    ]
    match = matched(*loudness)
    assert abs(match.match_after_db - match.match_before_db) > 1.0
    for other_heard in (False, True):
        compared = alone.compared.model_copy(update={"other_heard": other_heard})
        mix = heard_mix(now, alone.model_copy(update={"compared": compared}), match)
        heard = replay(mix, (), sources.__getitem__, start_frame=0, n_frames=RATE, sample_rate_hz=RATE)
        if other_heard:  # from where it starts, 0.1 s before the session
            file = 0.02 * SOUNDS[KICK][:, 4_800 : 4_800 + RATE]
            expected = np.tile(file, (2, 1)) * 10.0 ** (match.match_before_db / 20.0)
            ratio = heard[:, 1_000:] / expected[:, 1_000:]
            assert np.ptp(ratio) < 1e-9  # pan law or not: it is the file, and only louder or softer
        else:
            assert heard == pytest.approx(own * 10.0 ** (match.match_after_db / 20.0), abs=1e-12)
    other = alone.compared.model_copy(update={"other_heard": True})
    gone = heard_mix(without, alone.model_copy(update={"compared": other}), match)
    silent = replay(gone, (), sources.__getitem__, start_frame=0, n_frames=RATE, sample_rate_hz=RATE)
    assert not silent.any()  # not ours in its place


def test_a_reference_is_renamed_moved_and_let_go_and_is_refused_where_another_page_was_quicker():
    now = of_noise()
    moved = apply_all(
        now, [SetReference(reference_id="ref", fields={"start_frame": -96_000}, seen={"start_frame": -4_800})]
    )
    assert moved.reference("ref").start_frame == -96_000
    assert moved.sounding("ref").audio_id == KICK
    with pytest.raises(ConflictError, match="start_frame of Other"):
        SetReference(reference_id="ref", fields={"start_frame": 0}, seen={"start_frame": 5}).apply(moved)
    gone = RemoveReference(reference_id="ref").apply(moved)
    assert RemoveReference(reference_id="ref").apply(gone) == gone
    with pytest.raises(NotFoundError, match="reference ref"):
        Sides().question(gone, AskedSides(compared="reference", reference_id="ref"), lambda _: None)
    with pytest.raises(ValidationError, match="references must differ"):
        now.changed(references=(*now.references, *now.references))


def test_remarks_stand_in_the_order_of_time_and_change_no_sound():
    now = session()
    remarks = [Remark(id="b", text="the S is sharp here", at_s=2.5, hz=6_500), Remark(id="a", text="boxy", at_s=1.0)]
    said = apply_all(now, [AddRemark(strip_id="kick", remark=one) for one in remarks])
    assert [one.id for one in said.track("kick").remarks] == ["a", "b"]
    assert mix_of_session(said) == mix_of_session(now)
    assert RemoveRemark(strip_id="kick", remark_id="a").apply(said).track("kick").remarks == (remarks[0],)


def test_what_a_cut_frees_is_told_as_less_hidden_and_treatments_are_told_apart(kept: Kept):
    """Common practice, no source: who is cut where another plays hides less of that one."""
    now = session().changed(groups=())
    tracks = [
        one.model_copy(update={"group_id": None, "ledger": (), "gain_db": gain_db})
        for one, gain_db in zip(now.tracks, (-6.0, 6.0), strict=True)
    ]
    wide = {"id": "wide", "move": {"kind": "bell", "hz": 1_000.0, "gain_db": -18.0, "q": 0.3}}
    tracks[1] = tracks[1].model_copy(update={"ledger": (LedgerEntry.model_validate(wide),)})
    now = now.changed(tracks=tuple(tracks))
    asked = AskedMasking(strip_ids=("kick", "organ"))
    (kick, organ), _ = asked_of(kept, Maskings(), now, asked)
    assert kick.strip_id == "kick"
    assert kick.after_percent < kick.before_percent - 5.0
    assert organ.after_percent > organ.before_percent
    plain = apply_all(now, [AddTreatment(letter="B")])
    (same, _), _ = asked_of(kept, Maskings(), plain, asked.model_copy(update={"other": "B"}))
    assert same == kick  # a treatment without moves is the same as none
