"""What an intent is, and how it finds that somebody else was there first."""

from abc import abstractmethod
from typing import Any

from pydantic import BaseModel

from mivlo.core.errors import ConflictError
from mivlo.core.model.base import Frozen
from mivlo.core.model.ledger import Treatment
from mivlo.core.model.session import Session

__all__ = ["Intent", "OnTreatment", "refuse_changed"]


class Intent(Frozen):
    """What a user wants of a session: pure, so that it can be tried on any state of it."""

    @abstractmethod
    def apply(self, session: Session) -> Session:
        """Return the session as it is wanted.

        Raises
        ------
        ConflictError: what is to be changed is not as it was seen
        NotFoundError: what is to be changed is not there
        ValidationError: what a field must not be
        """


class OnTreatment(Intent):
    """An intent on ledgers, which are addressed by treatment and strip."""

    treatment: Treatment = "A"

    def apply(self, session: Session) -> Session:
        """Return the session with that treatment changed; it shows the same one as before. Raises as `Intent.apply`."""
        return self.applied(session.as_treated(self.treatment)).as_treated(session.treatment)

    @abstractmethod
    def applied(self, session: Session) -> Session:
        """Return a session that shows the treatment as it is wanted; raises as `Intent.apply`."""


def refuse_changed(what: str, *, now: Any, seen: Any, wanted: Any) -> None:
    """Raise a ConflictError where something is neither as it was seen nor already as it is wanted. Source: ours."""
    if now not in (seen, wanted):
        raise ConflictError(
            f"{what} was changed from another page meanwhile: it is {_shown(now)} now, and {_shown(wanted)} "
            "was not taken; set it again if you want it"
        )


def _shown(value: Any) -> str:
    if isinstance(value, BaseModel):
        named = value.model_dump(mode="json", exclude_defaults=True)
        figures = {name: one for name, one in named.items() if isinstance(one, int | float | str) and name != "kind"}
        return ", ".join(
            f"{name} {one:g}" if isinstance(one, float) else f"{name} {one}" for name, one in figures.items()
        )
    return "nothing" if value is None else f"{value:g}" if isinstance(value, float) else str(value)
