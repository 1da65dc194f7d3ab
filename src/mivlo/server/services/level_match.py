"""What level matches and guards go by, measured by the workers like all that is analysed."""

from collections.abc import Callable

from mivlo.core.analyses.loudness import needs_of_match
from mivlo.core.engine.listening import MatchQuestion
from mivlo.core.errors import MivloError
from mivlo.core.level_match import LevelMatch, Loudness, matched
from mivlo.server.db.engine import open_db
from mivlo.server.services.products import Priority, done_result, drop, want, wanted_of
from mivlo.server.services.waiting import ended, look_again

__all__ = ["FailedError", "give_up", "level_match", "rough_match"]

ROUGH_S = 6.0


class FailedError(MivloError):
    """What was asked could not be computed; `code` says how, as errors of the core do."""

    def __init__(self, code: str, message: str) -> None:
        super().__init__(message)
        self.code = code


def level_match(
    question: MatchQuestion, *, session_id: str, sample_rate_hz: int, wanter: str,
    is_wanted: Callable[[], bool] = lambda: True,
) -> LevelMatch:  # fmt: skip
    """Return how loud two ways of listening are, and what makes them equal; waits until that is measured.

    Raises
    ------
    MivloError: what cannot be measured, and why
    LookupError: it was given up meanwhile, or is not wanted any more
    """
    needs = needs_of_match(question, sample_rate_hz)
    with open_db() as db:
        for need in needs:
            one = wanted_of(session_id, None, need.analysis, need.params)
            want(db, one, priority=Priority.HEARD, wanter=wanter)
        db.commit()
    rows = [ended(need.key, is_wanted=is_wanted) for need in needs]
    for row in rows:
        if row.status == "failed":
            raise FailedError(row.code or MivloError.code, row.reason or "it could not be measured")
        if row.status == "cancelled":
            raise LookupError(f"product {row.id} was given up")
    return matched(*(Loudness.model_validate_json(row.result or "") for row in rows))


def rough_match(
    question: MatchQuestion, *, session_id: str, sample_rate_hz: int, wanter: str, is_wanted: Callable[[], bool]
) -> LevelMatch | None:  # fmt: skip
    """Return what is known at once: the match itself where it was measured before, else that of some seconds in the
    middle, which are soon measured; None where the whole is no longer than that.

    Raises
    ------
    As `level_match`.
    """
    needs = needs_of_match(question, sample_rate_hz)
    with open_db() as db:
        results = [done_result(db, need.key) for need in needs]
    known = [Loudness.model_validate_json(one) for one in results if one is not None]
    if len(known) == len(needs):
        return matched(*known)
    n_frames = round(ROUGH_S * sample_rate_hz)
    if question.end - question.start <= 2 * n_frames:
        return None
    start = (question.start + question.end - n_frames) // 2
    some = question.model_copy(update={"start": start, "end": start + n_frames})
    return level_match(some, session_id=session_id, sample_rate_hz=sample_rate_hz, wanter=wanter, is_wanted=is_wanted)


def give_up(wanter: str, question: MatchQuestion | None = None, *, sample_rate_hz: int = 0) -> None:
    """Note that somebody does not want a level match (None: anything) any more, and let nobody wait for it in vain."""
    needs = None if question is None else [need.key for need in needs_of_match(question, sample_rate_hz)]
    with open_db() as db:
        drop(db, wanter, needs)
        db.commit()
    look_again()
