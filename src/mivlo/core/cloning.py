"""Copies of running objects, made many times a second."""

from typing import TypeVar

__all__ = ["sharing_clone"]

T = TypeVar("T")


def sharing_clone(one: T) -> T:
    """Return another object of a class without slots, which shares all that the first one holds; `copy.copy` gives the
    same and takes ten times as long."""
    other: T = object.__new__(type(one))
    other.__dict__.update(one.__dict__)
    return other
