"""Where sound goes: tracks and groups into groups, as members and by sends, and all of it into the mix."""

import graphlib
from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass

from mivlo.core.errors import ParameterError
from mivlo.core.model.strips import Group, Track

__all__ = ["Route", "groups_in_order", "members_under", "parents_of", "routes_of", "sources_of"]


@dataclass(frozen=True, slots=True)
class Route:
    """One way from a strip into a group or the mix: as its member, or by a send with a level."""

    source_id: str
    target_id: str
    send_db: float | None = None  # None: as a member

    @property
    def key(self) -> tuple[str, str, bool]:
        """Return what tells it from all others, whatever its level. Raises nothing. Source: ours."""
        return self.source_id, self.target_id, self.send_db is not None


def parents_of(tracks: Sequence[Track], groups: Sequence[Group], *, mix_id: str) -> Mapping[str, str]:
    """Return the group of every track and group, by ids; whose group is not there is in the mix. Raises nothing.

    Source: ours
    """
    known = {group.id for group in groups}
    return {one.id: one.group_id if one.group_id in known else mix_id for one in (*tracks, *groups)}


def routes_of(tracks: Sequence[Track], groups: Sequence[Group], *, mix_id: str) -> Iterator[Route]:
    """Yield the ways of every track and group: into its own group, then its sends to groups that are there.

    Raises
    ------
    Nothing.

    Source: ours
    """
    parents = parents_of(tracks, groups, mix_id=mix_id)
    for one in (*tracks, *groups):
        yield Route(one.id, parents[one.id])
        for send in one.sends:
            if send.to_id in parents:
                yield Route(one.id, send.to_id, send.level_db)


def groups_in_order(groups: Sequence[Group]) -> tuple[Group, ...]:
    """Return groups so that each stands behind all whose sound it takes in.

    Raises
    ------
    ParameterError: sound would go round in a circle; the message tells the path that closes it

    Source: topological sorting (the standard library's graphlib)
    """
    by_id = {group.id: group for group in groups}
    sorter: graphlib.TopologicalSorter[str] = graphlib.TopologicalSorter({group.id: () for group in groups})
    for group in groups:
        for target_id in (group.group_id, *(send.to_id for send in group.sends)):
            if target_id in by_id:
                sorter.add(target_id, group.id)
    try:
        return tuple(by_id[group_id] for group_id in sorter.static_order())
    except graphlib.CycleError as error:
        path = " → ".join(f"“{by_id[group_id].name}”" for group_id in error.args[1])
        raise ParameterError(
            f"the sound would go round in a circle: {path}; a group may not feed one that feeds it"
        ) from None


def sources_of(strip_id: str, routes: Iterable[Route]) -> frozenset[str]:
    """Return the ids of all tracks and groups whose sound comes into a group or the mix, however far round.

    Raises
    ------
    Nothing.

    Source: ours
    """
    before: defaultdict[str, set[str]] = defaultdict(set)
    for route in routes:
        before[route.target_id].add(route.source_id)
    found: set[str] = set()
    new = before[strip_id]
    while new:
        found |= new
        new = set().union(*(before[one] for one in new)) - found
    return frozenset(found)


def members_under(group_id: str, tracks: Sequence[Track], groups: Sequence[Group]) -> frozenset[str]:
    """Return the ids of all tracks and groups inside a group, however deep. Raises nothing. Source: ours."""
    inside: set[str] = {group_id}
    one_deeper: set[str] = inside
    while one_deeper:
        one_deeper = {one.id for one in (*tracks, *groups) if one.group_id in one_deeper} - inside
        inside |= one_deeper
    return frozenset(inside - {group_id})
