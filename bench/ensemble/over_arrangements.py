"""What the benchmarks of the Ensemble have in common: something measured on every arrangement of a part."""

import argparse
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from typing import TypeVar

__all__ = ["over_arrangements"]

Measured = TypeVar("Measured")


def over_arrangements(
    measure: Callable[[tuple[str, int]], Measured], *, about: str, arrangements: int
) -> tuple[list[Measured], str, bool]:
    """Return what was measured on the arrangements that the command asks for, which these were, and whether to keep
    it."""
    parser = argparse.ArgumentParser(description=about)
    parser.add_argument("--part", default="test")
    parser.add_argument("--arrangements", type=int, default=arrangements)
    parser.add_argument("--write", action="store_true")
    options = parser.parse_args()
    with ProcessPoolExecutor(2) as pool:
        found = list(pool.map(measure, [(options.part, index) for index in range(options.arrangements)]))
    return found, f"{options.arrangements} arrangements of the {options.part} part", bool(options.write)
