"""One track in the engine: source, ledger, audition, fader."""

from collections.abc import Sequence

import numpy as np

from mivlo.core.engine.mix import Mix, Probe, StripState
from mivlo.core.engine.offcuts import OffcutsSource
from mivlo.core.engine.ramp import Ramp
from mivlo.core.engine.source import Segment, Source, read_looped
from mivlo.core.filters.biquad import Biquad
from mivlo.core.moves import Move
from mivlo.core.moves.base import slice_bell
from mivlo.core.moves.bell import Bell
from mivlo.core.processors.chain import Chain, KeyedSection
from mivlo.core.treatment import treatment_sections
from mivlo.core.units import Array, db_to_gain, octaves_to_q

__all__ = ["Strip", "ledger_sections", "pan_gains"]


def pan_gains(pan: float, *, n_channels: int) -> tuple[float, float]:
    """Return (left, right): constant power with 0 dB at the centre for one channel, balance for two."""
    if n_channels == 2:
        return min(1.0, 1.0 - pan), min(1.0, 1.0 + pan)
    if pan == 0.0:
        return 1.0, 1.0
    angle = (pan + 1.0) * np.pi / 4.0
    return float(np.sqrt(2.0) * np.cos(angle)), float(np.sqrt(2.0) * np.sin(angle))


def ledger_sections(state: StripState, *, sample_rate_hz: float) -> list[KeyedSection]:
    """Return the sections of a ledger, each named by its entry, off where the entry or the whole ledger is off."""
    return [
        KeyedSection(f"{entry.id}/{index}", section, on=entry.move.on and state.ledger_on)
        for entry in state.ledger
        for index, section in enumerate(entry.move.sections(sample_rate_hz))
    ]


def _probe_sections(probe: Probe, sample_rate_hz: float) -> Sequence[Biquad]:
    q = octaves_to_q(probe.width_octaves)
    hz = min(probe.hz, 0.49 * sample_rate_hz)
    if probe.kind == "only":
        return slice_bell(hz, q, sample_rate_hz)
    gain_db = probe.amount_db if probe.kind == "lift" else -probe.amount_db
    return Bell(hz=hz, gain_db=gain_db, q=q).sections(sample_rate_hz)


def _slice_move(state: StripState, entry_id: str) -> Move | None:
    return next((entry.move for entry in state.ledger if entry.id == entry_id), None)


class Strip:
    """Renders one track into the stereo sum; takes changes at steps of the control grid."""

    def __init__(self, source: Source, state: StripState, mix: Mix, *, audible: bool, sample_rate_hz: float) -> None:
        self._source = source
        self._rate = sample_rate_hz
        self._state = state
        self._ledger_key: object = None
        self._chain = Chain(source.n_channels, sample_rate_hz, self._sections(state, mix, starting=True))
        left, right = self._gains(state, audible)
        self._left, self._right = Ramp(left), Ramp(right)
        self._offcuts: list[tuple[OffcutsSource, Ramp]] = []
        self._normal = Ramp(1.0)
        self._aim_offcuts(state, mix, starting=True)

    def apply(self, state: StripState, mix: Mix, *, audible: bool) -> None:
        """Glide to another state of the track."""
        self._state = state
        self._chain.set_sections(self._sections(state, mix, starting=False))
        left, right = self._gains(state, audible)
        self._left.set_goal(left)
        self._right.set_goal(right)
        self._aim_offcuts(state, mix, starting=False)

    def render(self, segment: Segment) -> tuple[Array, Array, Array]:
        """Return the next frames: as played before the fader (channels, n), and the fader's left and right (n,)."""
        x = read_looped(self._source, segment, self._state.start_frame)
        self._chain.process(x)
        normal = self._normal.take(segment.n_frames)
        if self._offcuts:
            x *= normal
            for source, weight in self._offcuts:
                x += read_looped(source, segment, self._state.start_frame) * weight.take(segment.n_frames)
            self._offcuts = [item for item in self._offcuts if not (item[1].resting and item[1].value == 0.0)]
        return x, x[0] * self._left.take(segment.n_frames), x[-1] * self._right.take(segment.n_frames)

    def read_raw(self, segment: Segment) -> Array:
        """Return the untreated samples of a segment."""
        return read_looped(self._source, segment, self._state.start_frame)

    def _gains(self, state: StripState, audible: bool) -> tuple[float, float]:
        gain = (-1.0 if state.polarity_flipped else 1.0) * db_to_gain(state.gain_db) if audible else 0.0
        left, right = pan_gains(state.pan, n_channels=self._source.n_channels)
        return gain * left, gain * right

    def _sections(self, state: StripState, mix: Mix, *, starting: bool) -> list[KeyedSection]:
        sections = ledger_sections(state, sample_rate_hz=self._rate)
        if starting:
            sections = [section for section in sections if section.on]
        if mix.slice is not None and mix.slice.track_id == state.id:
            move = _slice_move(state, mix.slice.entry_id)
            if move is not None:
                shape = move.slice_sections(self._rate)
                sections += [KeyedSection(f"slice:{mix.slice.entry_id}/{i}", s) for i, s in enumerate(shape)]
        if mix.probe is not None and mix.probe.track_id == state.id:
            shape = tuple(_probe_sections(mix.probe, self._rate))
            sections += [KeyedSection(f"probe:{mix.probe.kind}/{i}", s) for i, s in enumerate(shape)]
        return sections

    def _aim_offcuts(self, state: StripState, mix: Mix, *, starting: bool) -> None:
        """Fade to the offcuts of the ledger as it is now, or back from them."""
        wanted = mix.offcuts_track_id == state.id
        key = tuple(entry.move for entry in state.ledger) if wanted else None
        if key == self._ledger_key:
            return
        self._ledger_key = key
        for _, weight in self._offcuts:
            weight.set_goal(0.0)
        self._normal.set_goal(0.0 if wanted else 1.0)
        if wanted:
            moves = tuple(entry.move for entry in state.ledger)
            sections = treatment_sections(moves, self._rate)
            weight = Ramp(1.0 if starting else 0.0)
            weight.set_goal(1.0)
            self._offcuts.append((OffcutsSource(self._source, sections, sample_rate_hz=self._rate), weight))
            if starting:
                self._normal = Ramp(0.0)
