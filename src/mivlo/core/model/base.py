"""What all models have alike, and models made from others."""

from collections.abc import Iterable, Set
from typing import Annotated, Any

from pydantic import BaseModel, BeforeValidator, ConfigDict, create_model

__all__ = ["Frozen", "Name", "Words", "partial_of", "printable", "refuse_twins"]


def printable(text: str) -> str:
    """Return a name without what nobody sees, above all the marks that turn the direction of all that follows."""
    return "".join(character for character in text if character.isprintable())


def _as_name(value: Any) -> Any:
    return printable(value.replace("\n", " ")) if isinstance(value, str) else value


def _as_words(value: Any) -> Any:
    return "\n".join(map(printable, value.split("\n"))) if isinstance(value, str) else value


Name = Annotated[str, BeforeValidator(_as_name)]  # one line, of what can be seen
Words = Annotated[str, BeforeValidator(_as_words)]  # the same in several lines


class Frozen(BaseModel):
    """A frozen model that takes no unknown fields and no NaN."""

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)


def refuse_twins(ids: Iterable[str], what: str) -> None:
    """Raise a ValueError where an id is used twice. Source: ours."""
    known = list(ids)
    twice = sorted({one for one in known if known.count(one) > 1})
    if twice:
        raise ValueError(f"{what} must differ in their ids; used twice: {', '.join(twice)}")


def partial_of(model: type[Frozen], name: str, *, without: Set[str]) -> type[Frozen]:
    """Return a model of some of another's fields, with the same limits, of which any may be left out.

    Parameters
    ----------
    without : the names that are not taken over; all others need a default

    Raises
    ------
    KeyError: a name that the model does not have

    Source: ours
    """
    for known in without:
        model.model_fields[known]
    fields = {one: (info.annotation, info) for one, info in model.model_fields.items() if one not in without}
    return create_model(name, __base__=Frozen, __module__=__name__, __doc__=f"Fields of {model.__name__}.", **fields)  # type: ignore[call-overload, no-any-return]
