"""The strips of a mix, and of another one beside it, as one graph: what both have alike is there once."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from mivlo.core.engine.audible import Audible, audible
from mivlo.core.engine.mix import Mix
from mivlo.core.model import Group, Route, StripBase, groups_in_order

__all__ = ["OUT", "Laid", "Layout", "laid_out"]

OUT = Group(id="behind the mix", name="Out")  # behind the mix, or behind both: fades from one to the other
BESIDE = " beside"  # behind the ids of strips that the other mix has for itself: sums are then made in the same order


@dataclass(frozen=True, slots=True)
class Laid:
    """A strip under the id that it has in the graph; its state has the id that it has in the session."""

    id: str
    state: StripBase


@dataclass(frozen=True, slots=True)
class Layout:
    """All strips, sources before those whose sound they go into, and the ways between them."""

    strips: Sequence[Laid]
    heard: Audible
    names: Mapping[str, str]  # by the ids of the session: which strip of the graph is heard as that just now


def laid_out(mix: Mix) -> Layout:
    """Return the strips of a mix and of the one beside it.

    A strip of the other mix is the same one as in this mix where it is treated alike, is heard alike, and takes in the
    same; else it stands beside it. Both mixes go into `OUT`, with their level matches.

    Raises
    ------
    Nothing.

    Source: ours
    """
    this, heard = _strips(mix), audible(mix)
    sides = mix.sides
    ids = {one.id: one.id for one in this}
    if sides is None:
        out = Route(mix.master.id, OUT.id)
        return Layout([*(Laid(one.id, one) for one in this), Laid(OUT.id, OUT)], _with_out(heard, [out], []), ids)
    beside = audible(sides.other)
    renamed = _renamed(mix, heard, sides.other, beside)
    strips = [Laid(one.id, one) for one in this]
    strips += [Laid(renamed[one.id], one) for one in _strips(sides.other) if renamed[one.id] != one.id]
    strips.sort(key=lambda one: isinstance(one.state, Group))  # tracks first; the order of groups stays
    other = Audible(
        frozenset(renamed[one] for one in beside.strip_ids),
        tuple(_renamed_route(route, renamed) for route in beside.open_routes),
        tuple(_renamed_route(route, renamed) for route in beside.closed_routes),
    )
    both = Audible(
        heard.strip_ids | other.strip_ids,
        tuple(dict.fromkeys((*heard.open_routes, *other.open_routes))),
        tuple(dict.fromkeys((*heard.closed_routes, *other.closed_routes))),
    )
    this_out = Route(mix.master.id, OUT.id, sides.this_db)
    other_out = Route(renamed[sides.other.master.id], OUT.id, sides.other_db)
    outs = [this_out, other_out] if not sides.other_heard else [other_out, this_out]
    both_alike = other_out.source_id == this_out.source_id
    silent = [] if both_alike else outs[1:]
    names = ids | renamed if sides.other_heard else renamed | ids
    return Layout([*strips, Laid(OUT.id, OUT)], _with_out(both, outs[:1], silent), names)


def _with_out(heard: Audible, open_: Iterable[Route], closed: Iterable[Route]) -> Audible:
    return Audible(
        heard.strip_ids | {OUT.id}, (*heard.open_routes, *open_), (*heard.closed_routes, *closed)
    )  # fmt: skip


def _strips(mix: Mix) -> list[StripBase]:
    return [*mix.tracks, *groups_in_order(mix.groups), mix.master]


def _renamed(mix: Mix, heard: Audible, other: Mix, beside: Audible) -> dict[str, str]:
    """Return under which ids the strips of the other mix are there: their own, where they are the same ones."""
    known = {one.id: one for one in _strips(mix)}
    into, into_other = _ways_in(heard), _ways_in(beside)
    found: dict[str, str] = {}
    for one in _strips(other):
        ways = into_other.get(one.id, {})
        same = (
            known.get(one.id) == one
            and (one.id in heard.strip_ids) == (one.id in beside.strip_ids)
            and into.get(one.id, {}) == ways
            and all(found.get(route.source_id, route.source_id) == route.source_id for route in ways)
        )
        found[one.id] = one.id if same else one.id + BESIDE
    return found


def _ways_in(heard: Audible) -> dict[str, dict[Route, bool]]:
    """Return the ways into each strip, and whether they are open."""
    found: dict[str, dict[Route, bool]] = {}
    for routes, is_open in ((heard.open_routes, True), (heard.closed_routes, False)):
        for route in routes:
            found.setdefault(route.target_id, {})[route] = is_open
    return found


def _renamed_route(route: Route, renamed: Mapping[str, str]) -> Route:
    return Route(renamed[route.source_id], renamed[route.target_id], route.send_db)
