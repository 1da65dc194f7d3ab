"""What the Ensemble would show if some moves of the plan were taken: what each track would be freed of."""

from collections.abc import Iterable

from pydantic import BaseModel, Field

from mivlo.core.analyses.base import Analysis, Known, Need, Work
from mivlo.core.analyses.ear_map import as_mixed, map_need
from mivlo.core.analyses.ensemble import N_TIMES, Ensemble, Ensembles, packed
from mivlo.core.analyses.plan import AskedPlan, Planned, PlanOf, Plans
from mivlo.core.ensemble.columns import columns, freed
from mivlo.core.ensemble.least_cut import dip_in, dipped
from mivlo.core.ensemble.listening import hear, sampled
from mivlo.core.ensemble.right_of_way import yield_limit_db
from mivlo.core.model import Frozen, RecordedSession

__all__ = ["AskedColumns", "PlannedColumns"]


class AskedColumns(AskedPlan):
    """How many moves of the plan, the first ones."""

    n_moves: int = Field(default=1, ge=0, le=40)


class PlannedColumnsOf(Frozen):
    """A plan, and how many of its moves."""

    plan: PlanOf
    n_moves: int


class PlannedColumn(BaseModel):
    """One who plays, as `ColumnBytes` with the moves; `freed` is which part of it would be heard that is hidden now, of
    255."""

    id: str
    ink: str
    hidden: str
    freed: str


class ColumnsOfPlan(BaseModel):
    """All columns, in the order of the Ensemble's."""

    columns: list[PlannedColumn]


_PLANS, _ENSEMBLES = Plans(), Ensembles()


class PlannedColumns(Analysis[AskedColumns, PlannedColumnsOf, ColumnsOfPlan]):
    """All tracks heard together with some moves of the plan, before anybody takes them."""

    name = "planned-columns"
    asked, params, result = AskedColumns, PlannedColumnsOf, ColumnsOfPlan

    def question(self, session: RecordedSession, asked: AskedColumns, known: Known) -> PlannedColumnsOf:
        plan = AskedPlan(most=asked.most, is_dynamic=asked.is_dynamic)
        return PlannedColumnsOf(plan=_PLANS.question(session, plan, known), n_moves=asked.n_moves)

    def needs(self, params: PlannedColumnsOf) -> Iterable[Need]:
        yield Need(_PLANS, params.plan)
        yield Need(_ENSEMBLES, params.plan.together)
        yield from (map_need(one) for one in params.plan.together.after)

    def analyse(self, work: Work, params: PlannedColumnsOf) -> ColumnsOfPlan:
        plan: Planned = work.result(Need(_PLANS, params.plan))
        together: Ensemble = work.result(Need(_ENSEMBLES, params.plan.together))
        ids = [one.id for one in params.plan.parties]
        if not ids:
            return ColumnsOfPlan(columns=[])
        role_of = {one.id: one.role for one in params.plan.parties}
        moves = plan.moves[: params.n_moves]
        dips = [
            dip_in(
                ids.index(one.front), ids.index(one.yielding), one.low_hz, one.high_hz,
                yield_limit_db(role_of[one.yielding]),
            )
            for one in moves
        ]  # fmt: skip
        tracks = sampled(as_mixed(work, params.plan.together.after))
        now = hear(tracks, full_scale_db=together.full_scale_db)
        work.report(0.5)
        reached = [one.reached for one in moves]
        tried = hear(
            dipped(tracks, dips, reached=reached, is_dynamic=params.plan.is_dynamic),
            full_scale_db=together.full_scale_db,
        )
        shown, won = columns(tried, n_times=N_TIMES), freed(now, tried, n_times=N_TIMES)
        return ColumnsOfPlan(
            columns=[
                PlannedColumn(id=one, ink=packed(shown.ink[at]), hidden=packed(shown.hidden[at]), freed=packed(won[at]))
                for at, one in enumerate(ids)
            ]
        )
