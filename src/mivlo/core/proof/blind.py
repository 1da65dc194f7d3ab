"""Blind checks: what is asked, in which secret order, and what the answers show.

The order is drawn by the caller's secure random source; here is only what follows from it.
"""

from collections.abc import Iterable, Sequence
from math import comb
from typing import Any, Literal, Self

from pydantic import AliasChoices, BaseModel, Field, model_validator

from mivlo.core.engine.listening import Compared, Listening
from mivlo.core.errors import ParameterError
from mivlo.core.model import Session, Treatment
from mivlo.core.model.base import Frozen
from mivlo.core.moves import Move
from mivlo.core.proof.threshold import Tried, next_depth_db, threshold_of

__all__ = [
    "Answers", "AskedCheck", "BlindResult", "Order", "Press", "answered", "check_loop", "full_depth_db",
    "guess_chance", "is_over", "pressed", "result_of", "results_of_checks", "subject_of",
]  # fmt: skip

Press = Literal["A", "X", "B"]
LEAST_LOOP_S = 1.0
SURE_BELOW = 0.05  # chance of a guesser below which it is said that a difference is heard


class AskedCheck(Frozen):
    """What is to be checked blind, and how.

    `hear`: X is A or B, which one? `better`: which of a pair? `least`: which of a pair has the move, at depths that
    come nearer to the least that is heard.
    """

    asks: Literal["hear", "better", "least"]
    compared: Compared
    treatment: Treatment = "A"
    strip_id: str | None = Field(default=None, max_length=64)
    alone: bool = True
    pressure: bool = False
    matched: bool = True
    n_trials: int = Field(default=10, ge=5, le=20)

    @model_validator(mode="after")
    def _names_what_it_needs(self) -> Self:
        if self.compared.what in ("strip", "one-move") and self.strip_id is None:
            raise ValueError(f"what={self.compared.what} needs a strip_id")
        if self.compared.what == "one-move" and self.compared.entry_id is None:
            raise ValueError("what=one-move needs an entry_id")
        if self.compared.what == "treatments" and self.compared.other in (None, self.treatment):
            raise ValueError("what=treatments needs another treatment to compare with")
        if self.compared.what == "reference":
            raise ValueError("what=reference: somebody else's mix is told at once; blind checks are of what was done")
        if self.asks == "least" and self.compared.what != "one-move":
            raise ValueError("asks=least is about one move: its depth is what changes")
        return self

    def listening(self, *, other_heard: bool = False, amount: float = 100.0) -> Listening:
        """Return how one side of it is listened to. Raises nothing. Source: ours."""
        compared = self.compared.model_copy(update={"other_heard": other_heard, "amount": amount})
        return Listening(
            treatment=self.treatment, strip_id=self.strip_id, alone=self.alone, matched=self.matched,
            pressure=self.pressure, compared=compared,
        )  # fmt: skip


class Order(Frozen):
    """What nobody is told before the end: which side A is (in each pair, if they change), and which one X is."""

    a_is_other: tuple[bool, ...]  # of a check that asks `hear`, once for all trials
    x_is_a: tuple[bool, ...] = ()


class Answers(Frozen):
    """What was answered: A or B for each trial; of `least`, at which depths."""

    said: tuple[Literal["A", "B"], ...] = ()
    tried: tuple[Tried, ...] = ()


class BlindResult(BaseModel):
    """What a check showed, in figures and in words."""

    # Sessions and bundles of version 0 kept it as `says`.
    sentence: str = Field(validation_alias=AliasChoices("sentence", "says"))
    right: int | None = None
    of: int
    guess_chance: float | None = None
    for_this: int | None = None  # votes for what is listened to as it is; the others are for what it is compared with
    threshold_db: float | None = None
    low_db: float | None = None
    high_db: float | None = None
    offered: Move | None = None  # the move at the least depth that is heard
    heard: bool
    matched: bool


def subject_of(asked: AskedCheck, session: Session) -> str:
    """Return what a check was about, in words. Raises nothing. Source: ours."""
    words = {"treatments": "Two treatments", "all-moves": "All moves", "stand-ins": "What stands for later"}
    names = {strip.id: strip.name for strip in session.strips()}
    whose = names.get(asked.strip_id or "", "a track that is gone")
    return words.get(asked.compared.what) or f"The moves of {whose}"


def results_of_checks(
    session: Session, checks: Iterable[tuple[AskedCheck, BlindResult]]
) -> tuple[dict[str, str], list[str]]:  # fmt: skip
    """Return what checks, oldest first, have shown of the treatment that a session shows: by the ids of single moves,
    and of all else in sentences. Raises nothing. Source: ours."""
    of_moves: dict[str, str] = {}
    others: list[str] = []
    for asked, result in checks:
        compared = asked.compared
        if session.treatment not in (asked.treatment, compared.other):
            continue
        if compared.what == "one-move" and compared.entry_id is not None:
            of_moves[compared.entry_id] = result.sentence
        else:
            others.append(f"{subject_of(asked, session)}: {result.sentence}")
    return of_moves, others


def guess_chance(right: int, of: int) -> float:
    """Return how likely a guesser does as well or better. Raises nothing. Source: the binomial distribution."""
    return float(sum(comb(of, k) for k in range(right, of + 1)) / 2**of)


def full_depth_db(move: Move) -> float:
    """Return how deep a move goes: what is made less to find the least that is heard.

    Raises
    ------
    ParameterError: a move that has no depth

    Source: ours
    """
    depths = [abs(float(getattr(move, name))) for name in move.scaled if name.endswith("_db")]
    if not max(depths, default=0.0):
        raise ParameterError(f"a {move.label.lower()} has no depth that could be less: ask whether it is heard at all")
    return max(depths)


def pressed(asked: AskedCheck, order: Order, answers: Answers, press: Press, *, full_db: float) -> Listening:
    """Return what is heard where A, X or B is pressed in the trial that comes next.

    Raises
    ------
    ParameterError: X where there is none

    Source: ours
    """
    trial = len(answers.said)
    if asked.asks == "hear":
        is_a = press == "A" or (press == "X" and order.x_is_a[trial])
        return asked.listening(other_heard=is_a == order.a_is_other[0])
    if press == "X":
        raise ParameterError("press=X is there only where X is to be told from A and B")
    other_heard = (press == "A") == order.a_is_other[trial]
    if asked.asks == "better":
        return asked.listening(other_heard=other_heard)
    depth_db = next_depth_db(answers.tried, full_db=full_db)
    return asked.listening(other_heard=other_heard, amount=100.0 * depth_db / full_db)


def answered(
    asked: AskedCheck, order: Order, answers: Answers, said: Literal["A", "B"], *, full_db: float
) -> Answers:  # fmt: skip
    """Return the answers with one more. Raises nothing. Source: ours."""
    tried = answers.tried
    if asked.asks == "least":
        depth_db = next_depth_db(tried, full_db=full_db)
        right = (said == "A") != order.a_is_other[len(answers.said)]
        tried = (*tried, Tried(depth_db=depth_db, right=right))
    return Answers(said=(*answers.said, said), tried=tried)


def is_over(asked: AskedCheck, answers: Answers, *, full_db: float) -> bool:
    """Tell whether all is answered that was to be. Raises nothing. Source: ours."""
    if asked.asks == "least":
        return threshold_of(answers.tried, full_db=full_db).done
    return len(answers.said) >= asked.n_trials


def result_of(
    asked: AskedCheck, order: Order, answers: Answers, *, full_db: float, move: Move | None = None
) -> BlindResult:
    """Return what a finished check showed. Raises nothing. Source: exact binomial chances; Watson and Pelli (1983)."""
    of = len(answers.said)
    if asked.asks == "hear":
        right = sum((said == "A") == is_a for said, is_a in zip(answers.said, order.x_is_a, strict=False))
        chance = guess_chance(right, of)
        sure = chance < SURE_BELOW
        sentence = f"{right} of {of} right; somebody who guesses does as well {_odds(chance)}: " + (
            "the difference is heard" if sure else "it is not shown that it is heard"
        )
        return _result(asked, sentence, of=of, right=right, guess_chance=chance, heard=sure)
    if asked.asks == "better":
        return _votes(asked, order, answers)
    found = threshold_of(answers.tried, full_db=full_db)
    right = sum(one.right for one in answers.tried)
    if not found.heard:
        sentence = f"not heard even at its full depth of {full_db:.1f} dB"
    else:
        between = f"between {found.low_db:.1f} and {found.high_db:.1f}"
        sentence = f"heard from {found.mean_db:.1f} dB on (nine times of ten it is {between})"
    offered = move.at_amount(found.mean_db / full_db) if move is not None and found.heard else None
    return _result(
        asked, sentence, of=of, right=right, offered=offered, threshold_db=found.mean_db if found.heard else None,
        low_db=found.low_db, high_db=found.high_db, heard=found.heard,
    )  # fmt: skip


def _votes(asked: AskedCheck, order: Order, answers: Answers) -> BlindResult:
    of = len(answers.said)
    pairs = zip(answers.said, order.a_is_other, strict=False)
    for_this = sum((said == "A") != a_is_other for said, a_is_other in pairs)
    most = max(for_this, of - for_this)
    chance = min(1.0, 2.0 * guess_chance(most, of))
    agree = chance < SURE_BELOW
    whom = _named(asked)[0 if 2 * for_this >= of else 1]
    sentence = f"{most} of {of} votes for {whom}; " + (
        "they agree with one another"
        if agree
        else f"votes by chance agree as much {_odds(chance)}: no side is preferred"
    )
    return _result(asked, sentence, of=of, for_this=for_this, guess_chance=chance, heard=agree)


def _named(asked: AskedCheck) -> tuple[str, str]:
    compared = asked.compared
    if compared.what == "treatments":
        return f"treatment {asked.treatment}", f"treatment {compared.other}"
    what = {"all-moves": "all moves", "strip": "its moves", "one-move": "the move", "stand-ins": "the stand-ins"}
    return f"the side with {what[compared.what]}", f"the side without {what[compared.what]}"


def _odds(chance: float) -> str:
    return (
        "always"
        if chance >= 1.0
        else f"once in {1.0 / chance:.0f} times"
        if chance < 0.1
        else f"{chance:.0%} of the time"
    )


def _result(asked: AskedCheck, sentence: str, **figures: Any) -> BlindResult:
    level = "at equal loudness" if asked.matched else "not matched in level, on purpose"
    return BlindResult(sentence=f"{sentence}; {level}.", matched=asked.matched, **figures)


def check_loop(n_frames: int, sample_rate_hz: int, loudnesses: Sequence[float | None]) -> None:
    """Check that a loop can be listened to blind.

    Raises
    ------
    ParameterError: it is too short, or silent; the message tells which

    Source: common practice, no source
    """
    seconds = n_frames / sample_rate_hz
    if seconds < LEAST_LOOP_S:
        raise ParameterError(
            f"the loop is {seconds:.2f} s long; a blind check needs {LEAST_LOOP_S:.0f} s or more: make it longer"
        )
    if any(one is None for one in loudnesses):
        raise ParameterError("the loop is silent on one side or both: set it where the track is heard")
