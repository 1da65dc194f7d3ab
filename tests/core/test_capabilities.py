"""A move need be no equalizer: one without a place, a response or bands goes everywhere that moves go."""

from dataclasses import dataclass
from typing import ClassVar, Literal

import numpy as np
import pytest
from pydantic import Field

from mivlo.core.engine.mix import Mix, Slice
from mivlo.core.engine.player import Player
from mivlo.core.engine.render import render_track
from mivlo.core.engine.source import ArraySource
from mivlo.core.model import LedgerEntry, Track, keys_of
from mivlo.core.moves import MOVE_KINDS
from mivlo.core.moves.base import BaseMove, Family
from mivlo.core.moves.bell import Bell
from mivlo.core.moves.capabilities import FollowsLevel, Placed, Responds, Sliced, Steady
from mivlo.core.moves.dynamic_bell import DynamicBell
from mivlo.core.moves.figures import describe_kinds, meanings_of
from mivlo.core.processors.stage import StageSpec, Trace
from mivlo.core.settings_list import list_rows
from mivlo.core.treatment import treatment_response

RATE = 48_000
NOISE = ArraySource(0.1 * np.random.default_rng(8).standard_normal((1, RATE)))


@dataclass(frozen=True, slots=True)
class LowerSpec(StageSpec):
    """Everything lowered alike, as a compressor would at one moment."""

    key: str
    gain_db: float

    def structure(self):
        return self.key

    def make(self, n_channels, sample_rate_hz):
        return LowerStage(self)

    def retune(self, stage):
        stage.gain_db = self.gain_db

    def memory_s(self, sample_rate_hz):
        return 0.0


class LowerStage:
    latency_frames = 0

    def __init__(self, spec: LowerSpec) -> None:
        self.gain_db, self._trace = spec.gain_db, None

    def process(self, x, context):
        n_steps = x.shape[1] // 64
        self._trace = Trace(context.frame, 64, np.zeros(n_steps), np.full(n_steps, self.gain_db))
        return x * 10 ** (self.gain_db / 20)

    def trace(self):
        return self._trace

    def clone(self):
        other = LowerStage.__new__(LowerStage)
        other.gain_db, other._trace = self.gain_db, self._trace
        return other

    def is_finite(self):
        return True


class Lower(BaseMove):
    """A kind that is in no registry."""

    label: ClassVar[str] = "Lower"
    summary: ClassVar[str] = ""
    family: ClassVar[Family] = "dynamic"
    kind: Literal["lower"] = "lower"
    amount_db: float = Field(default=-6.0, title="Amount")

    def stage(self, key, *, on, keepers, sample_rate_hz, share=1.0):
        return LowerSpec(key, self.amount_db if on else 0.0)


def track(*moves, **fields) -> Track:
    ledger = tuple(LedgerEntry.model_construct(id=str(i), move=move, reason="") for i, move in enumerate(moves))
    return Track.model_construct(**(Track(id="a", audio_id="a").__dict__ | {"ledger": ledger} | fields))


def test_it_is_rendered_auditioned_and_listed_by_what_it_can_say():
    lower = Lower()
    lower.check_rate(8_000.0)  # nothing of it lies too high for any rate
    mix = Mix(tracks=(track(lower),))
    blocks = render_track(mix, "a", lambda _: NOISE, start=0, end=9_600, sample_rate_hz=RATE)
    gain = 10 ** (-6 / 20)
    assert np.allclose(np.concatenate(list(blocks), axis=1), gain * NOISE.read(0, 9_600))

    def heard(**listening) -> np.ndarray:
        player = Player(mix.model_copy(update=listening), lambda _: NOISE, start_frame=0, sample_rate_hz=RATE)
        return player.render(24_000)

    # A gain that is told without bands is the same at all frequencies, so what it takes away is the sound, lower.
    offcuts = heard(offcuts_track_id="a")
    assert np.allclose(offcuts[0, 16_000:], (1 - gain) * NOISE.read(16_000, 8_000)[0], atol=1e-6)
    # No region of its own: its slice is all of it.
    assert np.array_equal(heard(slice=Slice(track_id="a", entry_id="0")), heard())
    hz = np.array([100.0, 1_000.0])
    assert np.array_equal(treatment_response([lower], hz, RATE), np.ones(2))
    [row] = list_rows([("Voice", track(lower))], sample_rate_hz=RATE)
    assert (row["kind"], row["hz"], row["note"], row["further"]) == ("Lower", "", "", "amount -6")


@pytest.mark.parametrize("kind", sorted(MOVE_KINDS))
def test_every_kind_says_what_its_figures_mean_as_far_as_it_has_them(kind):
    model = MOVE_KINDS[kind]
    names = {field for field in ("hz", "low_hz", "gain_db", "depth_db", "q", "slope_db_per_octave", "listens_to")
             if field in model.model_fields}  # fmt: skip
    told = set(meanings_of(model).values())
    assert names <= told
    described = next(one for one in describe_kinds() if one.kind == kind)
    for figure in described.figures:
        name, _, value = figure.when.replace("!=", "=").partition("=")
        assert not figure.when or any(one.name == name for one in described.figures)
        assert not value or any(
            value in (f"{choice:g}" if isinstance(choice, float) else choice for choice in one.choices)
            for one in described.figures
            if one.name == name
        )


def test_kinds_have_the_capabilities_that_their_processors_have():
    bell, dynamic = Bell(hz=900, gain_db=-3), DynamicBell(hz=900, listens_to="b", rest_db=1, depth_db=-7)
    assert all(isinstance(bell, one) for one in (Placed, Responds, Steady, Sliced))
    assert all(isinstance(dynamic, one) for one in (Placed, Responds, FollowsLevel, Sliced))
    assert not isinstance(dynamic, Steady)
    assert not isinstance(bell, FollowsLevel)
    assert dynamic.extent_db == -6.0
    at_centre = dynamic.response_at(dynamic.extent_db, np.array([900.0]), RATE)
    assert np.allclose(dynamic.response(np.array([900.0]), RATE), at_centre)
    assert keys_of(track(bell, dynamic).ledger) == {"b"}
