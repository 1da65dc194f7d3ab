"""What is heard of a strip for its own sake: probes, the slice of one move, and what its moves take away (offcuts)."""

from collections.abc import Callable, Sequence

from mivlo.core.engine.mix import Mix, Probe
from mivlo.core.engine.offcuts import OffcutsSource
from mivlo.core.engine.strip import Strip
from mivlo.core.filters.biquad import Biquad
from mivlo.core.model import StripBase
from mivlo.core.moves.base import slice_bell
from mivlo.core.moves.bell import Bell
from mivlo.core.moves.capabilities import Sliced
from mivlo.core.processors.chain import ChainSpec, KeyedSection
from mivlo.core.units import octaves_to_q

__all__ = ["Audition", "audition_spec", "is_auditioned"]


def is_auditioned(state: StripBase, mix: Mix) -> bool:
    """Tell whether a probe or a slice listens to a strip. Raises nothing. Source: ours."""
    return any(one.track_id == state.id for one in (*mix.probes(), *((mix.slice,) if mix.slice else ())))


def audition_spec(state: StripBase, mix: Mix, *, sample_rate_hz: float) -> ChainSpec:
    """Return the stage behind the ledger: the probes, or the slice of one move, where they listen to this strip."""
    keyed: list[KeyedSection] = []
    if mix.slice is not None and mix.slice.track_id == state.id:
        move = next((entry.move for entry in state.ledger if entry.id == mix.slice.entry_id), None)
        if isinstance(move, Sliced):
            shape = move.slice_sections(sample_rate_hz)
            keyed += [KeyedSection(f"slice:{mix.slice.entry_id}/{i}", s) for i, s in enumerate(shape)]
    for index, probe in enumerate((mix.probe, *mix.held_probes)):
        if probe is not None and probe.track_id == state.id:
            held = f" {index}" if index else ""
            shape = tuple(_probe_sections(probe, sample_rate_hz))
            keyed += [KeyedSection(f"probe:{probe.kind}{held}/{i}", s) for i, s in enumerate(shape)]
    return ChainSpec("audition", tuple(keyed))


def _probe_sections(probe: Probe, sample_rate_hz: float) -> Sequence[Biquad]:
    q = octaves_to_q(probe.width_octaves)
    hz = min(probe.hz, 0.49 * sample_rate_hz)
    if probe.kind == "only":
        return slice_bell(hz, q, sample_rate_hz)
    gain_db = probe.amount_db if probe.kind == "lift" else -probe.amount_db
    return Bell(hz=hz, gain_db=gain_db, q=q).sections(sample_rate_hz)


class Audition:
    """Hears a strip's offcuts in its place where that is wanted."""

    def __init__(self, strip: Strip, position_of: Callable[[int], int], *, sample_rate_hz: float) -> None:
        self._strip, self._position_of, self._rate = strip, position_of, sample_rate_hz
        self._offcuts_of: object = None

    def aim(self, state: StripBase, mix: Mix, *, frame: int, starting: bool) -> bool:
        """Fade to what is wanted of a strip from a frame on; returns whether that is another thing than before."""
        wanted = (state.amount, *(entry.move for entry in state.ledger)) if mix.offcuts_track_id == state.id else None
        if wanted == self._offcuts_of:
            return False
        self._offcuts_of = wanted
        offcuts = None
        if wanted is not None:
            offcuts = OffcutsSource(self._strip, state, self._position_of, sample_rate_hz=self._rate)
        self._strip.aim_extra(offcuts, frame=frame, starting=starting)
        return True
