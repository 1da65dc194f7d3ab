"""Which files are the left and the right of one stereo sound, by their names."""

import re
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import PurePath

__all__ = ["Pair", "name_of_all", "pairs_among"]

SIDES = {"l": "left", "left": "left", "r": "right", "right": "right"}
# A word by itself ("Piano L", "piano_left"), or a capital at the end of a name ("OHL").
_WORD = re.compile(r"(?<![^\W\d_])(left|right|l|r)(?![^\W\d_])", re.IGNORECASE)
_LAST = re.compile(r"(?<=\w)([LR])$")
_EDGES = " -_.()[]"


@dataclass(frozen=True, slots=True)
class Pair:
    """Places of two names that differ in left and right only, and what both together are called."""

    left: int
    right: int
    name: str


def pairs_among(names: Sequence[str]) -> list[Pair]:
    """Return the pairs among the names of files, in their order; each file is in one at most.

    Raises
    ------
    Nothing.

    Source: common practice, no source
    """
    sides: dict[tuple[str, ...], dict[str, int]] = {}
    for at, name in enumerate(names):
        for key, side in _read(PurePath(name)):
            sides.setdefault(key, {}).setdefault(side, at)
    found, taken = [], set[int]()
    for (before, after, *_), places in sides.items():
        if len(places) == 2 and not taken & set(places.values()):
            taken |= set(places.values())
            joined = f"{before.rstrip(_EDGES)} {after.lstrip(_EDGES)}".strip()
            found.append(Pair(places["left"], places["right"], joined or "Stereo"))
    return sorted(found, key=lambda pair: min(pair.left, pair.right))


def name_of_all(names: Sequence[str]) -> str:
    """Return what a sound is called whose channels have these names; empty where they say nothing of the whole."""
    if len(names) == 1:
        return names[0]
    pairs = pairs_among(names) if len(names) == 2 else []
    return pairs[0].name if pairs else ""


def _read(path: PurePath) -> list[tuple[tuple[str, ...], str]]:
    """Return what is left of a name without each word that could tell a side, and that side."""
    stem = path.stem
    matches = [*_WORD.finditer(stem), *_LAST.finditer(stem)]
    kinds = {one.span(): "word" if len(one[1]) > 1 else "letter" for one in matches}
    return [
        ((stem[:start], stem[end:], path.suffix.lower(), kind), SIDES[stem[start:end].lower()])
        for (start, end), kind in kinds.items()
    ]
