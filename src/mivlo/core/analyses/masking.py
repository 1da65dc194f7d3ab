"""How much chosen tracks hide of one another, on two sides: without moves or in another treatment, and as it is now."""

from collections.abc import Iterable, Sequence
from typing import Annotated

import numpy as np
from pydantic import BaseModel, Field

from mivlo.core.analyses.base import Analysis, Known, Need, OfSession, Work
from mivlo.core.analyses.ear_map import Playing, as_mixed, map_need, who_plays
from mivlo.core.ensemble.listening import Heard, full_scale_db_spl, hear, sampled
from mivlo.core.errors import ParameterError
from mivlo.core.model import Frozen, RecordedSession, Treatment

__all__ = ["AskedMasking", "HiddenShare", "MaskingOf", "Maskings"]

MOST_CHOSEN = 8


class AskedMasking(OfSession):
    """Who is chosen of those who play, and with which treatment it is compared: None is the same without moves."""

    strip_ids: tuple[Annotated[str, Field(max_length=64)], ...] = Field(min_length=2, max_length=MOST_CHOSEN)
    other: Treatment | None = None


class MaskingOf(Frozen):
    """Everybody who plays, on both sides, and who of them is chosen."""

    before: tuple[Playing, ...]
    after: tuple[Playing, ...]
    chosen: tuple[str, ...]


class HiddenShare(BaseModel):
    """How much of one of the chosen is lost beside the others of them while they play: per cent of its loudness."""

    strip_id: str
    before_percent: float | None
    after_percent: float | None


class Maskings(Analysis[AskedMasking, MaskingOf, list[HiddenShare]]):
    """How much chosen tracks hide of one another, before and after."""

    name = "masking"
    asked, params, result = AskedMasking, MaskingOf, list[HiddenShare]

    def question(self, session: RecordedSession, asked: AskedMasking, known: Known) -> MaskingOf:
        other = _untreated(session) if asked.other is None else session.as_treated(asked.other)
        before, after = who_plays(other), who_plays(session)
        plays = {one.id for one in after}
        for strip_id in asked.strip_ids:
            if strip_id not in plays:
                raise ParameterError(
                    f"{session.strip(strip_id).name} is muted or in a group: choose who plays by itself"
                )
        return MaskingOf(before=before, after=after, chosen=tuple(dict.fromkeys(asked.strip_ids)))

    def needs(self, params: MaskingOf) -> Iterable[Need]:
        return (map_need(one) for one in (*params.before, *params.after))

    def analyse(self, work: Work, params: MaskingOf) -> list[HiddenShare]:
        sides = [sampled(as_mixed(work, playing)) for playing in (params.before, params.after)]
        full_scale_db = full_scale_db_spl(sides[0])
        shares = []
        for tracks, playing in zip(sides, (params.before, params.after), strict=True):
            number_of = {one.id: number for number, one in enumerate(playing)}
            heard = hear([tracks[number_of[one]] for one in params.chosen], full_scale_db=full_scale_db)
            shares.append(_hidden_percent(heard))
        return [
            HiddenShare(strip_id=one, before_percent=before, after_percent=after)
            for one, before, after in zip(params.chosen, *shares, strict=True)
        ]


def _hidden_percent(heard: Heard) -> Sequence[float | None]:
    """Return what is lost of each while it plays and any other does; None of who never plays with another."""
    together = heard.sounding & (heard.sounding.sum(axis=0) > 1)
    found: list[float | None] = []
    for track, frames in enumerate(together):
        alone, kept = (float(np.sum(one[track, frames], dtype=np.float64)) for one in (heard.loudness, heard.kept))
        found.append(round(100.0 * (1.0 - kept / alone), 1) if alone > 0.0 else None)
    return found


def _untreated(session: RecordedSession) -> RecordedSession:
    """Return the session as if no strip had moves."""
    strips = {
        name: tuple(one.model_copy(update={"ledger_on": False}) for one in getattr(session, name))
        for name in ("tracks", "groups")
    }
    return session.model_copy(update={**strips, "master": session.master.model_copy(update={"ledger_on": False})})
