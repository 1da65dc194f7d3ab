"""Answers about a frozen model, worked out once for each object: what never changes need not be asked twice."""

from collections.abc import Callable, Hashable
from functools import lru_cache, wraps
from typing import Any, Concatenate, ParamSpec, TypeVar

__all__ = ["remembered"]

Of = TypeVar("Of")
More = ParamSpec("More")
Answer = TypeVar("Answer")


class _Same:
    """An object that equals only itself: to compare whole sessions takes as long as what is saved."""

    __slots__ = ("of",)

    def __init__(self, of: object) -> None:
        self.of = of

    def __hash__(self) -> int:
        return id(self.of)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Same) and other.of is self.of


def remembered(n: int) -> Callable[[Callable[Concatenate[Of, More], Answer]], Callable[Concatenate[Of, More], Answer]]:
    """Let a pure function of a frozen object, and of other hashable figures, keep its last n answers.

    Raises
    ------
    As the function, every time that it is asked.

    Source: ours
    """

    def decorated(function: Callable[Concatenate[Of, More], Answer]) -> Callable[Concatenate[Of, More], Answer]:
        @lru_cache(maxsize=n)
        def kept(same: _Same, *others: Hashable, **figures: Hashable) -> Any:
            return function(same.of, *others, **figures)  # type: ignore[arg-type]

        @wraps(function)
        def asked(of: Of, *others: More.args, **figures: More.kwargs) -> Answer:
            answer: Answer = kept(_Same(of), *others, **figures)  # type: ignore[arg-type]
            return answer

        return asked  # type: ignore[return-value]

    return decorated
