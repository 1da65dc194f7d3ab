"""Proof of a carve: measured again on the treated sound, who gained what and what it cost."""

from dataclasses import dataclass
from typing import Literal, Protocol

import numpy as np

from mivlo.core.ensemble.contest import region_bands
from mivlo.core.ensemble.hearing import STEP_CAMS
from mivlo.core.ensemble.listening import Heard
from mivlo.core.units import Array, Floats

__all__ = ["NOTHING_PERCENT", "Proof", "ProofVerdict", "proof_sentence", "prove"]

ProofVerdict = Literal["came forward", "a little", "gained nothing"]
NOTHING_PERCENT = 2.0  # of its own loudness in the region: less is not heard
FORWARD_PERCENT = 6.0


@dataclass(frozen=True, slots=True)
class Proof:
    """What changed while both play, in the region; percentages are of the loudness that each has there, or
    everywhere, alone.

    Parameters
    ----------
    gained_percent, gained_sone : how much more of the front track is heard in the region
    hidden_before_percent, hidden_after_percent : how much of it is still lost there
    cost_percent : how much of its loudness, everywhere, the yielding track lost
    before, after : (bands,) sone per Cam that are heard of the front track among the others, on average
    yielding_before, yielding_after : (bands,) the same of the yielding one
    """

    gained_percent: float
    gained_sone: float
    hidden_before_percent: float
    hidden_after_percent: float
    cost_percent: float
    before: Array
    after: Array
    yielding_before: Array
    yielding_after: Array

    @property
    def verdict(self) -> ProofVerdict:
        """Return how it went, in a word."""
        if self.gained_percent < NOTHING_PERCENT:
            return "gained nothing"
        return "came forward" if self.gained_percent >= FORWARD_PERCENT else "a little"


def prove(before: Heard, after: Heard, *, front: int, yielding: int, low_hz: float, high_hz: float) -> Proof:
    """Return what a carve has done, from the same tracks heard without it and with it.

    Raises
    ------
    Nothing: where the two never sound together, nothing is gained and nothing lost.

    Source: partial loudness (`hear`), ours
    """
    n_frames = min(before.sounding.shape[1], after.sounding.shape[1])
    both = before.sounding[front, :n_frames] & before.sounding[yielding, :n_frames]
    region = region_bands(low_hz, high_hz)

    def mean(sones: Floats, track: int) -> Array:
        chosen = sones[track, :n_frames][both]
        return np.asarray(chosen.mean(axis=0, dtype=np.float64)) if len(chosen) else np.zeros(sones.shape[2])

    own = float(mean(before.loudness, front)[region].sum())
    kept = [mean(one.kept, front) for one in (before, after)]
    alone = [float(mean(one.loudness, yielding).sum()) for one in (before, after)]
    others = [mean(one.kept, yielding) for one in (before, after)]
    there = [float(one[region].sum()) for one in kept]
    share = 100.0 / max(own, 1e-9)
    return Proof(
        gained_percent=share * (there[1] - there[0]), gained_sone=there[1] - there[0],
        hidden_before_percent=float(np.clip(100.0 - share * there[0], 0.0, 100.0)) if own > 0.0 else 0.0,
        hidden_after_percent=float(np.clip(100.0 - share * there[1], 0.0, 100.0)) if own > 0.0 else 0.0,
        cost_percent=100.0 * (1.0 - alone[1] / max(alone[0], 1e-9)) if alone[0] > 0.0 else 0.0,
        before=kept[0] / STEP_CAMS, after=kept[1] / STEP_CAMS, yielding_before=others[0] / STEP_CAMS,
        yielding_after=others[1] / STEP_CAMS,
    )  # fmt: skip


class Proving(Protocol):
    """What a sentence tells of a proof; its percentages are those of `Proof`."""

    @property
    def verdict(self) -> ProofVerdict: ...
    @property
    def gained_percent(self) -> float: ...
    @property
    def hidden_before_percent(self) -> float: ...
    @property
    def hidden_after_percent(self) -> float: ...
    @property
    def cost_percent(self) -> float: ...


def proof_sentence(proof: Proving, front: str, yielding: str) -> str:
    """Return what came of it in plain words: what was gained, what it cost, and what stays hidden."""
    cost = f"{yielding} lost {max(proof.cost_percent, 0.0):.0f} % of its loudness"
    if proof.verdict == "gained nothing":
        return f"{front} gained nothing to speak of there ({proof.gained_percent:+.0f} %); {cost}"
    return (
        f"{front} gained {proof.gained_percent:.0f} % of its loudness there; "
        f"{proof.hidden_after_percent:.0f} % of it stays hidden ({proof.hidden_before_percent:.0f} % before); {cost}"
    )
