"""What is heard by a way of listening: the one place where that is decided, rule by rule."""

import pytest

from mivlo.core.engine.listening import Listening, Preview, Together, heard_mix, match_question
from mivlo.core.engine.mix import Probe, Slice
from mivlo.core.level_match import Loudness, matched
from mivlo.core.model import Group, LedgerEntry, Session, Track
from mivlo.core.moves.bell import Bell

CUT, OTHER = Bell(hz=431, gain_db=-9, q=1), Bell(hz=431, gain_db=-2, q=1)
LEDGER = (LedgerEntry(id="e", move=CUT),)
SESSION = Session(
    id="s",
    sample_rate_hz=48_000,
    loop_start_frame=480,
    loop_end_frame=48_000,
    tracks=(
        Track(id="a", name="A", audio_id="a", ledger=LEDGER, twin_id="w", gain_db=-3),
        Track(id="b", name="B", audio_id="b", ledger=LEDGER, twin_id="w"),
        Track(id="c", name="C", audio_id="c", group_id="g", ledger=(LedgerEntry(id="f", move=CUT),)),
    ),
    groups=(Group(id="g", name="G"),),
)
# The moves make it 4 LU quieter: the untreated sound is turned down by that.
MATCH = matched(Loudness(loudness_lufs=-20, true_peak_db=-3), Loudness(loudness_lufs=-24, true_peak_db=-5))


def heard(match=MATCH, **listening):
    return heard_mix(SESSION, Listening(strip_id="a", **listening), match)


def test_before_and_after_are_matched_and_the_guard_goes_by_what_is_heard():
    after, before = heard(), heard(moves_heard=False)
    assert (after.match_db, before.match_db) == (0.0, -4.0)
    assert [track.ledger_on for track in before.tracks] == [False, True, True]
    assert (after.guard.loudness_lufs, before.guard.loudness_lufs) == (-24.0, -24.0)
    assert before.guard.true_peak_db == -7.0
    assert heard(moves_heard=False, matched=False).match_db == 0.0
    assert heard(match=None, moves_heard=False).match_db == 0.0
    assert (after.alone_track_id, heard(alone=False).alone_track_id) == ("a", None)
    assert after.loop() is not None


@pytest.mark.parametrize("for_itself", [{"offcuts": True}, {"slice_entry_id": "e"}])
def test_what_is_heard_for_its_own_sake_is_not_turned_down(for_itself):
    mix = heard(moves_heard=False, **for_itself)
    assert mix.match_db == 0.0
    assert (mix.offcuts_track_id, mix.slice) in (("a", None), (None, Slice(track_id="a", entry_id="e")))


def test_a_move_under_the_pointer_is_heard_in_place_of_what_is_saved_by_all_twins():
    mix = heard(preview=Preview(strip_id="b", entry_id="e", move=OTHER))
    assert [track.ledger[0].move for track in mix.tracks] == [OTHER, OTHER, CUT]
    assert mix.tracks[0].gain_db == -3.0
    gone = heard(preview=Preview(strip_id="b", entry_id="gone", move=OTHER))
    assert [track.ledger[0].move for track in gone.tracks] == [CUT, CUT, CUT]


def test_an_amount_under_the_pointer_is_heard_of_all_twins():
    mix = heard(preview=Preview(strip_id="a", amount=50.0))
    assert [track.amount for track in mix.tracks] == [50.0, 50.0, 100.0]
    assert mix.tracks[0].ledger == LEDGER


def test_who_is_not_in_the_session_is_not_heard():
    mix = heard_mix(SESSION, Listening(strip_id="nobody", probe=Probe(track_id="nobody", hz=100.0)), None)
    assert (mix.alone_track_id, mix.probe) == (None, None)


def test_side_by_side_one_move_or_all_are_left_out_and_slices_are_not_matched():
    one = Together(heard_ids=("a", "c"), compares="one-move", entry_id="f", without=True)
    mix = heard(together=one)
    assert [track.ledger[0].move.on for track in mix.tracks] == [True, True, False]
    assert (mix.heard_ids, mix.match_db, mix.alone_track_id) == (("a", "c"), -4.0, None)
    everything = heard(together=Together(compares="all-moves", without=True))
    assert not any(track.ledger_on for track in everything.tracks)
    assert heard(together=one, held_probes=(Probe(track_id="a", hz=100.0, kind="only"),)).match_db == 0.0
    assert heard(together=Together()).tracks == heard().tracks


def test_what_is_measured_is_what_is_compared_over_the_loop():
    question = match_question(SESSION, Listening(strip_id="a"), end_frame=24_000)
    assert (question.start, question.end) == (480, 24_000)
    assert [track.ledger for track in question.without.tracks] == [()]  # alone: the others are not heard at all
    assert [track.ledger for track in question.within.tracks] == [LEDGER]
    # A name, a pin, whatever nobody hears: the same question, measured once.
    renamed = SESSION.with_strip("a", lambda _: {"name": "Other"})
    assert match_question(renamed, Listening(strip_id="a", dim=True), end_frame=24_000) == question
    assert match_question(SESSION, Listening(together=Together()), end_frame=1) is None
    one = Together(compares="one-move", entry_id="f", heard_ids=("c",))
    question = match_question(SESSION, Listening(together=one), end_frame=24_000)
    assert [entry.move.on for entry in question.without.tracks[0].ledger] == [False]
