"""Blind checks: what is asked and answered is kept; which side is which leaves here only for whoever renders."""

import secrets
from typing import Literal

from pydantic import BaseModel
from sqlalchemy import select
from sqlalchemy.orm import Session as Database

from mivlo.core.engine.listening import Blind, Listening, match_question
from mivlo.core.errors import ConflictError, NotFoundError
from mivlo.core.moves import Move
from mivlo.core.proof.blind import (
    Answers,
    AskedCheck,
    BlindResult,
    Order,
    answered,
    check_loop,
    full_depth_db,
    is_over,
    pressed,
    result_of,
)
from mivlo.core.proof.threshold import MOST_TRIALS
from mivlo.server.db.tables import BlindCheckRow, new_id
from mivlo.server.services.level_match import level_match
from mivlo.server.services.sessions import read_session
from mivlo.server.services.state import SessionState

__all__ = ["BlindAnswer", "BlindCheck", "answer", "begin", "list_checks", "pressed_in"]


class BlindCheck(BaseModel):
    """A blind check as everybody may see it: what is asked, how far it is, and at the end what it showed."""

    id: str
    asked: AskedCheck
    n_answered: int
    n_most: int
    result: BlindResult | None


class BlindAnswer(BaseModel):
    """The answer in a trial, counted from 0."""

    trial: int
    choice: Literal["A", "B"]


def begin(db: Database, session: SessionState, asked: AskedCheck) -> BlindCheck:
    """Begin a check, in an order that nobody can foresee; waits until it is known how loud both sides are.

    Raises
    ------
    ParameterError: a loop that is too short or silent, a move without a depth
    NotFoundError: no such session, strip, move or treatment
    """
    treated = session.as_treated(asked.treatment)
    full_db = 0.0
    if asked.compared.other is not None:
        session.as_treated(asked.compared.other)
    if asked.strip_id is not None:
        strip = treated.strip(asked.strip_id)
        if asked.compared.what == "one-move":
            move = _move_of(session, asked)
            if move is None:
                raise NotFoundError(f"this move is not in the ledger of {strip.name} (any more)")
            full_db = full_depth_db(move) if asked.asks == "least" else 0.0
    question = match_question(session, asked.listening(), end_frame=session.end_frame())
    n_frames = 0 if question is None else question.end - question.start
    check_loop(n_frames, session.sample_rate_hz, ())
    assert question is not None
    try:
        match = level_match(
            question, session_id=session.id, sample_rate_hz=session.sample_rate_hz, wanter=f"blind {new_id()}"
        )
    except LookupError as error:
        raise NotFoundError(f"session {session.id} was deleted while this check began") from error
    check_loop(n_frames, session.sample_rate_hz, (match.before.loudness_lufs, match.after.loudness_lufs))
    row = BlindCheckRow(
        session_id=session.id, asked=asked.model_dump(mode="json"), secret=_drawn(asked).model_dump(mode="json"),
        answers={}, full_db=full_db,
    )  # fmt: skip
    db.add(row)
    db.commit()
    return _as_model(row)


def _move_of(session: SessionState, asked: AskedCheck) -> Move | None:
    try:
        strip = session.as_treated(asked.treatment).strip(asked.strip_id or "")
    except NotFoundError:  # taken out since
        return None
    return next((one.move for one in strip.ledger if one.id == asked.compared.entry_id), None)


def _drawn(asked: AskedCheck) -> Order:
    def sides(n: int) -> tuple[bool, ...]:
        return tuple(bool(secrets.randbits(1)) for _ in range(n))

    return Order(a_is_other=sides(1 if asked.asks == "hear" else MOST_TRIALS), x_is_a=sides(MOST_TRIALS))


def answer(db: Database, session_id: str, check_id: str, said: BlindAnswer) -> BlindCheck:
    """Take an answer; sent again, it is taken once.

    Raises
    ------
    ConflictError: a trial that is not the next one
    NotFoundError: no such check
    """
    row = _row(db, session_id, check_id, lock=True)
    asked, order, answers = _read(row)
    n = len(answers.said)
    if said.trial == n - 1 and answers.said[-1] == said.choice:
        return _as_model(row)
    if said.trial != n or row.result is not None:
        raise ConflictError(f"trial {said.trial} is not the next one: {n} are answered")
    answers = answered(asked, order, answers, said.choice, full_db=row.full_db)
    row.answers = answers.model_dump(mode="json")
    if is_over(asked, answers, full_db=row.full_db):
        move = _move_of(read_session(db, session_id), asked) if asked.asks == "least" else None
        row.result = result_of(asked, order, answers, full_db=row.full_db, move=move).model_dump(mode="json")
    db.commit()
    return _as_model(row)


def list_checks(db: Database, session_id: str) -> list[BlindCheck]:
    """Return the finished checks of a session, newest first."""
    query = select(BlindCheckRow).where(BlindCheckRow.session_id == session_id, BlindCheckRow.result.is_not(None))
    return [_as_model(row) for row in db.scalars(query.order_by(BlindCheckRow.created_at.desc()).limit(200))]


def pressed_in(db: Database, session_id: str, blind: Blind) -> Listening:
    """Return what is heard where something is pressed; raises NotFoundError, ConflictError, ParameterError."""
    row = _row(db, session_id, blind.check_id)
    asked, order, answers = _read(row)
    if row.result is not None or blind.trial != len(answers.said):
        raise ConflictError(f"trial {blind.trial} is not the next one of this check")
    return pressed(asked, order, answers, blind.press, full_db=row.full_db)


def _read(row: BlindCheckRow) -> tuple[AskedCheck, Order, Answers]:
    return (
        AskedCheck.model_validate(row.asked),
        Order.model_validate(row.secret),
        Answers.model_validate(row.answers),
    )


def _row(db: Database, session_id: str, check_id: str, *, lock: bool = False) -> BlindCheckRow:
    row = db.get(BlindCheckRow, check_id, with_for_update=lock or None)
    if row is None or row.session_id != session_id:
        raise NotFoundError(f"blind check {check_id:.80} is not there")
    return row


def _as_model(row: BlindCheckRow) -> BlindCheck:
    asked, _, answers = _read(row)
    result = None if row.result is None else BlindResult.model_validate(row.result)
    n_most = MOST_TRIALS if asked.asks == "least" else asked.n_trials
    return BlindCheck(id=row.id, asked=asked, n_answered=len(answers.said), n_most=n_most, result=result)
