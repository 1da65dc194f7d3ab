"""How a suspect is auditioned: alone, without it, and lifted so that it is plain; and what is kept when it is
wanted."""

from pydantic import BaseModel

from mivlo.core.model import Keeper
from mivlo.core.units import q_to_octaves

__all__ = ["Auditions", "auditions", "keeper_around"]

NARROWEST_OCTAVES, WIDEST_OCTAVES = 0.05, 3.0
SHALLOWEST_DIP_DB, DEEPEST_DIP_DB = 3.0, 24.0
LEAST_KEPT_OCTAVES = 0.1


class Auditions(BaseModel):
    """A probe for a suspect: as wide as it is; a dip as deep as it stands out, so that just it is gone."""

    hz: float
    width_octaves: float
    dip_db: float


def auditions(*, hz: float, q: float, excess_db: float) -> Auditions:
    """Return the figures of the probe for a suspect; raises nothing."""
    width = min(max(q_to_octaves(q), NARROWEST_OCTAVES), WIDEST_OCTAVES)
    return Auditions(hz=hz, width_octaves=width, dip_db=min(max(excess_db, SHALLOWEST_DIP_DB), DEEPEST_DIP_DB))


def keeper_around(hz: float, q: float) -> Keeper:
    """Return the region that is kept when a suspect is wanted; raises nothing."""
    half = 2.0 ** (max(q_to_octaves(q), LEAST_KEPT_OCTAVES) / 2.0)
    return Keeper(low_hz=max(hz / half, 20.0), high_hz=min(hz * half, 20_000.0))
