"""Where a suspect stands in the round, and what is taken out of the mix to hear it."""

from mivlo.core.ensemble.in_mix import Fault
from mivlo.core.finder.stretch import Suspect
from mivlo.core.moves.note_family import NoteFamily

__all__ = ["fault_of", "weight_of"]

HUM_MEMBERS = NoteFamily.model_fields["count"].default
# What is heard counts as far as it is plain; what is plainer than that is not more to be judged.
PLAIN_ENOUGH_DB, UNHEARD_COUNTS = 6.0, 0.05


def weight_of(confidence: float, change_db: float) -> float:
    """Return where a suspect stands in the round: how sure it is, times how much the mix changes without it.

    Raises nothing. Source: ours
    """
    return confidence * (min(change_db, PLAIN_ENOUGH_DB) + UNHEARD_COUNTS)


def fault_of(suspect: Suspect, gain_db: float, offset_s: float = 0.0) -> Fault:
    """Return what is taken out for a suspect: its bell, of hum its note family; a burst only in its times.

    Raises nothing. Source: our definition.
    """
    times = tuple((a + offset_s, b + offset_s) for a, b in suspect.times)
    numbers = range(1, HUM_MEMBERS + 1) if suspect.kind == "hum" else (1,)
    return Fault(tuple((n * suspect.hz, gain_db, suspect.q * n) for n in numbers), times)
