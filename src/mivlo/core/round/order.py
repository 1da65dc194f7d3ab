"""Where a suspect stands in the round, and what is taken out of the mix to hear it."""

import numpy as np

from mivlo.core.ensemble.in_mix import Fault
from mivlo.core.finder.stretch import Suspect
from mivlo.core.moves.note_family import NoteFamily

__all__ = ["fault_of", "weight_of"]

HUM_MEMBERS = NoteFamily.model_fields["count"].default
# What is heard counts as far as it is plain; what is plainer than that is not more to be judged.
PLAIN_ENOUGH_DB, UNHEARD_COUNTS_DB = 6.0, 0.05


def weight_of(confidence: float, change_db: float, in_mix_db: float) -> float:
    """Return where a suspect stands in the round, 0 to 6: by how sure it is, how much the mix changes without it where
    it is plainest, and how much of it is heard over all its moments.

    Raises nothing. Source: ours; of the orders that were tried, the one that has most of what is heard among the first
    twelve rows (bench/ensemble/rounds.py)
    """
    heard = [min(db + UNHEARD_COUNTS_DB, PLAIN_ENOUGH_DB) / PLAIN_ENOUGH_DB for db in (change_db, max(in_mix_db, 0.0))]
    return PLAIN_ENOUGH_DB * float(np.sqrt(confidence * np.prod(heard)))


def fault_of(suspect: Suspect, gain_db: float, offset_s: float = 0.0) -> Fault:
    """Return what is taken out for a suspect: its bell, of hum its note family; a burst only in its times.

    Raises nothing. Source: our definition.
    """
    times = tuple((a + offset_s, b + offset_s) for a, b in suspect.times)
    numbers = range(1, HUM_MEMBERS + 1) if suspect.kind == "hum" else (1,)
    return Fault(tuple((n * suspect.hz, gain_db, suspect.q * n) for n in numbers), times)
