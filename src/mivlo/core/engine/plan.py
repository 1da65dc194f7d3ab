"""From a ledger to the stages of its pipeline."""

from collections.abc import Sequence

from mivlo.core.channel import Channel
from mivlo.core.filters.biquad import Biquad
from mivlo.core.filters.linear_phase import has_linear_phase_form
from mivlo.core.model import StripBase
from mivlo.core.moves import Move
from mivlo.core.moves.capabilities import Steady
from mivlo.core.processors.chain import ChainSpec, KeyedSection
from mivlo.core.processors.fir import FirSpec
from mivlo.core.processors.stage import RestingSpec, StageSpec
from mivlo.core.processors.timed import ReadWeights, TimedSpec

__all__ = ["in_linear_phase", "ledger_specs", "static_sections"]


def in_linear_phase(move: Move, state: StripBase, *, sample_rate_hz: float) -> bool:
    """Tell whether a move of a ledger runs in linear phase: chosen, standing still, and not too low and narrow for it.

    Raises
    ------
    ParameterError: a move that does not fit the rate
    """
    return state.phase == "linear" and isinstance(move, Steady) and has_linear_phase_form(move.sections(sample_rate_hz))


def ledger_specs(state: StripBase, *, sample_rate_hz: float, read_weights: ReadWeights) -> list[StageSpec]:
    """Return the stages of a ledger in its order.

    Static moves side by side share one, but for those with times; in a ledger of linear phase, those that have no form
    in it run in minimum phase in their place. Stand-ins come last: they stand for what is done to the treated sound,
    so that they are also there where the ledger is off.

    Raises
    ------
    ParameterError: a move that does not fit the rate
    """
    specs: list[StageSpec] = []
    run: list[KeyedSection] = []
    run_is_linear, n_runs = False, 0

    def close_run() -> None:
        nonlocal n_runs
        if run:
            specs.append(_static_spec(f"static {n_runs}", run, linear=run_is_linear))
            n_runs += 1
            run.clear()

    for entry in sorted(state.acting_ledger, key=lambda one: one.move.stand_in):
        on = entry.move.on and (state.acts or entry.move.stand_in)
        sections: list[KeyedSection] = []
        if isinstance(entry.move, Steady):
            sections = [
                KeyedSection(f"{entry.id}/{index}", section, on, entry.move.channel)
                for index, section in enumerate(entry.move.sections(sample_rate_hz))
            ]
        linear = in_linear_phase(entry.move, state, sample_rate_hz=sample_rate_hz)
        if sections and not entry.move.times_s and not entry.move.stand_in:
            if linear != run_is_linear:
                close_run()
            run.extend(sections)
            run_is_linear = linear
            continue
        close_run()
        keepers = tuple((keeper.low_hz, keeper.high_hz) for keeper in state.keepers)
        spec = (
            _static_spec(entry.id, sections, linear=linear) if sections
            else entry.move.stage(
                entry.id, on=on, keepers=keepers, sample_rate_hz=sample_rate_hz,
                share=1.0 if entry.move.stand_in else state.amount / 100.0,
            )
        )  # fmt: skip
        if spec is not None:
            spec = TimedSpec(spec, entry.move.times_s, read_weights) if entry.move.times_s else spec
            specs.append(RestingSpec(spec) if entry.move.stand_in and not on else spec)
    close_run()
    return specs


def _static_spec(key: str, run: Sequence[KeyedSection], *, linear: bool) -> StageSpec:
    if not linear:
        return ChainSpec(key, tuple(run))
    return FirSpec(f"{key} linear", tuple((keyed.section, keyed.channel) for keyed in run if keyed.on))


def static_sections(state: StripBase, *, sample_rate_hz: float, at_s: float) -> list[tuple[Biquad, Channel]]:
    """Return the sections of all static moves that act at a time, with their channels, on or off, whatever is between
    them."""
    return [
        (section, entry.move.channel)
        for entry in (state.acting_ledger if state.amount else ())
        if isinstance(entry.move, Steady) and entry.move.acts_at(at_s) and not entry.move.stand_in
        for section in entry.move.sections(sample_rate_hz)
    ]
