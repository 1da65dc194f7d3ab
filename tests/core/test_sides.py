"""Two treatments side by side: both are rendered all the while; a switch is one crossfade to the other's samples."""

import numpy as np
import pytest

from mivlo.core.analyses.mix_comparison import match_of_mix
from mivlo.core.engine.layout import BESIDE, laid_out
from mivlo.core.engine.listening import Compared, Listening, heard_mix, match_question, sides_compared
from mivlo.core.engine.mix import Mix, Sides, mix_of_session
from mivlo.core.engine.player import Player
from mivlo.core.engine.render import render_mix, replay
from mivlo.core.engine.revising import Revising
from mivlo.core.engine.source import ArraySource
from mivlo.core.errors import ConflictError, NotFoundError, ParameterError
from mivlo.core.kernels import CONTROL_FRAMES
from mivlo.core.level_match import Loudness, matched
from mivlo.core.model import Group, LedgerEntry, RecordedSession, Send, Session, Track
from mivlo.core.model.intents import apply_all
from mivlo.core.model.intents.ledgers import AddMove, SetLedger
from mivlo.core.model.intents.treatments import AddTreatment, CopyLedgers, KeepTreatment, RemoveTreatment, SetTreatment
from mivlo.core.moves.bell import Bell
from mivlo.core.moves.compressor import Compressor
from mivlo.core.moves.dynamic_bell import DynamicBell

RATE, FADE = 48_000, 12 * CONTROL_FRAMES
SOUNDS = {
    name: ArraySource(0.1 * np.random.default_rng(seed).standard_normal((channels, 3 * RATE)))
    for seed, (name, channels) in enumerate((("a", 2), ("b", 1), ("c", 2)))
}


def entry(name: str, move) -> LedgerEntry:
    return LedgerEntry(id=name, move=move)


SESSION = Session(
    id="s",
    sample_rate_hz=RATE,
    tracks=(
        Track(id="a", audio_id="a", group_id="g", gain_db=-3, ledger=(entry("cut", Bell(hz=431, gain_db=-9, q=8)),)),
        Track(id="b", audio_id="b", sends=(Send(to_id="r", level_db=-6.0),), pan=-0.3, twin_id="w"),
        Track(id="c", audio_id="c", mute=True, twin_id="w"),
    ),
    groups=(
        Group(id="r", ledger=(entry("late", DynamicBell(hz=900, threshold_db=-60, lookahead_ms=10)),)),
        Group(id="g", ledger=(entry("duck", DynamicBell(hz=300, threshold_db=-50, listens_to="b")),)),
    ),
    master=Group(id="mix", name="Mix", ledger=(entry("top", Bell(hz=6_000, gain_db=-3, q=1)),)),
)
DEEPER = entry("deeper", Bell(hz=2_000, gain_db=-12, q=4))
B = apply_all(
    SESSION,
    [
        AddTreatment(letter="B", of="A", name="bolder"),
        AddMove(treatment="B", strip_id="b", entry=DEEPER),
    ],
)
IN_MIX = Listening(strip_id="a", alone=False, matched=False)


def beside(other_heard: bool, **listening) -> Mix:
    compared = Compared(what="treatments", other="B", other_heard=other_heard)
    return heard_mix(B, IN_MIX.model_copy(update={"compared": compared, **listening}), None)


def rendered(mix: Mix, *, n_frames: int = RATE) -> np.ndarray:
    blocks = render_mix(mix, SOUNDS.__getitem__, start=4_800, end=4_800 + n_frames, sample_rate_hz=RATE)
    return np.concatenate(list(blocks), axis=1)


def played(mix: Mix, *changes) -> np.ndarray:
    return replay(mix, changes, SOUNDS.__getitem__, start_frame=4_800, n_frames=RATE, sample_rate_hz=RATE)


def test_an_edit_of_one_treatment_leaves_the_others_alone_and_twins_share_both():
    assert B.treatment == "A"
    assert [one.ledger for one in B.strips()] == [one.ledger for one in SESSION.strips()]
    bolder = B.as_treated("B")
    assert bolder.track("b").ledger == bolder.track("c").ledger == (DEEPER,)
    assert bolder.track("a").ledger == SESSION.track("a").ledger
    assert bolder.as_treated("A") == B
    both = apply_all(
        B,
        [
            SetLedger(treatment="B", strip_id="a", fields={"amount": 50.0}, seen={"amount": 100.0}),
            CopyLedgers(of="B", to="A", strip_ids=("b",)),
            SetTreatment(letter="B", name="half", seen="bolder"),
            AddTreatment(letter="C"),
        ],
    )
    assert (both.track("a").amount, both.as_treated("B").track("a").amount) == (100.0, 50.0)
    assert both.track("c").ledger == (DEEPER,)
    assert [one.name for one in both.treatments] == ["", "half", ""]
    assert not any(one.ledger for one in both.as_treated("C").strips())
    # One from nothing is heard with what is done later, as the others are.
    later = entry("later", Compressor(threshold_db=-40, stand_in=True))
    pressed = apply_all(both, [AddMove(strip_id="a", entry=later), AddTreatment(letter="D")]).as_treated("D")
    assert [one.ledger for one in pressed.strips() if one.ledger] == [(later,)]
    kept = KeepTreatment(letter="B").apply(both)
    assert [one.letter for one in kept.treatments] == ["A"]
    assert (kept.track("a").amount, kept.track("a").variants) == (50.0, {})
    gone = RemoveTreatment(letter="B").apply(both)
    with pytest.raises(NotFoundError, match="treatment B"):
        gone.as_treated("B")
    with pytest.raises(ConflictError, match="B is there already"):
        AddTreatment(letter="B").apply(both)
    with pytest.raises(ParameterError, match="keep another"):
        RemoveTreatment(letter="A").apply(both)


def test_each_side_is_the_render_of_its_treatment_and_a_switch_is_one_crossfade():
    one, other = (rendered(mix_of_session(B.as_treated(letter))) for letter in ("A", "B"))
    assert np.abs(one - other).max() > 0.01
    assert np.array_equal(played(beside(False)), one)
    assert np.array_equal(played(beside(True)), other)
    at = 200 * CONTROL_FRAMES
    switched = played(beside(False), (at, beside(True)))
    assert np.array_equal(switched[:, :at], one[:, :at])
    assert np.array_equal(switched[:, at + FADE :], other[:, at + FADE :])
    between = (switched - one)[:, at : at + FADE], (switched - other)[:, at : at + FADE]
    assert np.all(np.minimum(np.abs(between[0]), np.abs(between[1])) <= np.abs(one - other)[:, at : at + FADE] + 1e-9)


def test_what_both_treat_alike_is_there_once():
    layout = laid_out(beside(False))
    # Only the edited track, its muted twin, and what they go into: the room and the mix.
    assert {one.id for one in layout.strips if one.id.endswith(BESIDE)} == {
        one + BESIDE for one in ("b", "c", "r", "mix")
    }
    same = mix_of_session(SESSION)
    alike = laid_out(same.model_copy(update={"sides": Sides(other=same, other_heard=True)}))
    assert [one.id for one in alike.strips] == [one.id for one in laid_out(same).strips]


def test_switches_taken_back_into_what_is_held_are_what_is_replayed():
    random = np.random.default_rng(3)
    first = beside(False)
    player = Player(first, SOUNDS.__getitem__, start_frame=4_800, sample_rate_hz=RATE)
    revising = Revising(player, first)
    player.keep_from(0)
    held, told, plain = np.zeros((2, 0)), [], heard_mix(B, IN_MIX, None)
    for at in range(4_000, 40_000, 3_000):
        held = np.concatenate([held, player.render(at + 6_000 - held.shape[1])], axis=1)
        mix = [beside(True), beside(False), plain, beside(True, alone=True)][int(random.integers(4))]
        made = revising.change(mix, from_frame=at)
        held = held[:, : player.rendered_frames]
        told = [*(one for one in told if one[0] < made.frame), (made.frame, made.mix)]
        revising.accept(revising.n_open)
    held = np.concatenate([held, player.render(RATE - held.shape[1])], axis=1)
    assert np.array_equal(held, played(first, *told))


@pytest.mark.parametrize(
    ("what", "others"),
    [("all-moves", ((), (), ())), ("strip", ((), ("duck",), ("top",))), ("one-move", ((), ("duck",), ("top",)))],
)
def test_without_some_moves_all_else_is_alike(what, others):
    listening = IN_MIX.model_copy(update={"compared": Compared(what=what, entry_id="cut")})
    this, other = sides_compared(B, listening)

    def acting(one) -> tuple[str, ...]:
        return tuple(entry.id for entry in one.ledger if entry.move.on and one.ledger_on)

    strips = (other.tracks[0], next(one for one in other.groups if one.id == "g"), other.master)
    assert tuple(map(acting, strips)) == others
    assert acting(this.tracks[0]) == ("cut",)
    half = Compared(what="one-move", entry_id="cut", amount=50.0)
    weaker, _ = sides_compared(B, IN_MIX.model_copy(update={"compared": half}))
    assert weaker.tracks[0].ledger[0].move.gain_db == -4.5


def test_of_a_treatment_that_is_shown_its_own_mix_is_measured():
    match = match_of_mix(recorded(B.as_treated("B")))
    assert [one.ledger for one in match.within.tracks][1] == (DEEPER,)
    assert not any(one.ledger for one in match.without.tracks)


def recorded(session: Session) -> RecordedSession:
    facts = {"format": "WAV", "subtype": "FLOAT", "original_rate_hz": RATE, "original_frames": 3 * RATE}
    audio = {
        name: facts | {"id": name, "original_name": name, "n_channels": 2, "n_frames": 3 * RATE} for name in SOUNDS
    }
    return RecordedSession.model_validate({**dict(session), "audio": audio})


def test_both_sides_are_turned_down_to_the_softer_one():
    listening = IN_MIX.model_copy(update={"compared": Compared(what="treatments", other="B"), "matched": True})
    question = match_question(B, listening, end_frame=RATE)
    assert question.without.tracks[1].ledger == (DEEPER,)
    loudnesses = (Loudness(loudness_lufs=one, true_peak_db=-3) for one in (-20.0, -22.5))
    mix = heard_mix(B, listening, matched(*loudnesses))
    assert (mix.sides.this_db, mix.sides.other_db, mix.match_db) == (0.0, -2.5, 0.0)  # there, and nowhere else
