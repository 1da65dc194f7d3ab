"""The balance of a sound, and moves that draw one sound's towards another's."""

from collections.abc import Iterable
from typing import Self

import numpy as np
from pydantic import BaseModel, Field, model_validator

from mivlo.core.analyses.base import Analysis, Known, Need, NoFigures, OfStrip, Sound, Work
from mivlo.core.analyses.sounds import sound_behind
from mivlo.core.engine.source import blocks_of
from mivlo.core.errors import ParameterError
from mivlo.core.model import Frozen, RecordedSession
from mivlo.core.moves import Move
from mivlo.core.proof.likeness import (
    GRID_HZ,
    HIGH_HZ,
    LIMIT_DB,
    LOW_HZ,
    MOST_MOVES,
    THIRDS_HZ,
    Balance,
    balance_of,
    drawn_towards,
    slope_balance,
)

__all__ = ["AskedLikeness", "BalanceOf", "Balances", "LikenessIn", "LikenessView", "Likenesses", "as_balance"]


class BalanceOf(Frozen):
    """A sound, all of it."""

    sound: Sound
    sample_rate_hz: int


class KeptBalance(BaseModel):
    """A `Balance` as lists."""

    thirds_db: list[float]
    power: list[float]
    grid_db: list[float]
    wanders_db: list[float]
    fine_db: list[float]
    holds: list[bool]


def as_balance(kept: KeptBalance) -> Balance:
    """Return a balance that was kept. Raises nothing. Source: ours."""
    return Balance(**{name: np.array(value) for name, value in kept})


class Balances(Analysis[NoFigures, BalanceOf, KeptBalance]):
    """The long-term balance of a sound."""

    name = "balance"
    params, result = BalanceOf, KeptBalance

    def analyse(self, work: Work, params: BalanceOf) -> KeptBalance:
        source = work.open(params.sound.audio_id)
        found = balance_of(blocks_of(source, 0, source.n_frames), sample_rate_hz=params.sample_rate_hz)
        return KeptBalance(**{name: getattr(found, name).tolist() for name in KeptBalance.model_fields})


class AskedLikeness(OfStrip):
    """Towards what a strip is drawn, as both sound behind their moves: another strip, a reference,
    or a plain slope; and how far."""

    towards: str | None = None
    slope_db_per_octave: float | None = Field(default=None, ge=-12.0, le=12.0)
    amount: float = Field(default=100.0, ge=0.0, le=100.0)
    most_moves: int = Field(default=MOST_MOVES, ge=1, le=12)
    limit_db: float = Field(default=LIMIT_DB, ge=0.5, le=18.0)
    low_hz: float = Field(default=LOW_HZ, ge=20.0, le=20_000.0)
    high_hz: float = Field(default=HIGH_HZ, ge=20.0, le=20_000.0)

    @model_validator(mode="after")
    def _towards_one(self) -> Self:
        if (self.towards is None) == (self.slope_db_per_octave is None):
            raise ValueError("say towards what: another track (towards), or a slope (slope_db_per_octave)")
        if self.high_hz < 2.0 * self.low_hz:
            raise ValueError(f"high_hz={self.high_hz:g} must be an octave or more above low_hz={self.low_hz:g}")
        return self


class LikenessIn(Frozen):
    """Two sounds (of a slope, none), and how far the one is drawn."""

    one: BalanceOf
    other: BalanceOf | None
    slope_db_per_octave: float
    amount: float
    most_moves: int
    limit_db: float
    low_hz: float
    high_hz: float
    keepers: tuple[tuple[float, float], ...]


class LikenessView(BaseModel):
    """Moves, the distances before and after, what is wanted and drawn at `hz`, and what is left at `thirds_hz`."""

    moves: list[Move]
    distance_before_db: float
    distance_after_db: float
    hz: list[float]
    wanted_db: list[float]
    drawn_db: list[float]
    thirds_hz: list[float]
    left_db: list[float]


_BALANCES = Balances()


class Likenesses(Analysis[AskedLikeness, LikenessIn, LikenessView]):
    """Moves that draw one sound's overall balance towards another's."""

    name = "likeness"
    asked, params, result = AskedLikeness, LikenessIn, LikenessView

    def question(self, session: RecordedSession, asked: AskedLikeness, known: Known) -> LikenessIn:
        rate = session.sample_rate_hz

        def balance(strip_id: str) -> BalanceOf:
            return BalanceOf(sound=sound_behind(session, session.sounding(strip_id))[0], sample_rate_hz=rate)

        if asked.towards == asked.strip_id:
            raise ParameterError("a track is like itself already: choose another one")
        keepers = session.strip(asked.strip_id).keepers
        figures = {"amount", "most_moves", "limit_db", "low_hz", "high_hz"}
        return LikenessIn(
            one=balance(asked.strip_id),
            other=None if asked.towards is None else balance(asked.towards),
            slope_db_per_octave=asked.slope_db_per_octave or 0.0,
            keepers=tuple((one.low_hz, one.high_hz) for one in keepers),
            **asked.model_dump(include=figures),
        )

    def needs(self, params: LikenessIn) -> Iterable[Need]:
        return [Need(_BALANCES, one) for one in (params.one, params.other) if one is not None]

    def analyse(self, work: Work, params: LikenessIn) -> LikenessView:
        one = as_balance(work.result(Need(_BALANCES, params.one)))
        other = slope_balance(params.slope_db_per_octave)
        if params.other is not None:
            other = as_balance(work.result(Need(_BALANCES, params.other)))
        found = drawn_towards(
            one, other, amount=params.amount, most_moves=params.most_moves, limit_db=params.limit_db,
            low_hz=params.low_hz, high_hz=params.high_hz, keepers=params.keepers,
        )  # fmt: skip
        curves = {name: np.round(getattr(found, name), 2).tolist() for name in ("wanted_db", "drawn_db", "left_db")}
        return LikenessView(
            moves=list(found.moves), distance_before_db=found.distance_before_db,
            distance_after_db=found.distance_after_db, hz=GRID_HZ.tolist(), thirds_hz=THIRDS_HZ.tolist(), **curves,
        )  # fmt: skip
