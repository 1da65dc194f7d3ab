"""Who is heard: mutes, solos and listening to something alone, told as the ways that are open through the graph."""

from collections import defaultdict
from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass
from functools import cache
from itertools import takewhile

from mivlo.core.engine.mix import Mix
from mivlo.core.model import Route, Track, parents_of, routes_of, sources_of

__all__ = ["Audible", "audible", "audible_tracks"]


@dataclass(frozen=True, slots=True)
class Audible:
    """What of a mix is heard: the strips whose faders are up, and the ways that sound takes from there."""

    strip_ids: frozenset[str]
    open_routes: tuple[Route, ...]
    closed_routes: tuple[Route, ...]


def audible(mix: Mix) -> Audible:
    """Return what is heard of a mix: those named, or what is listened to alone, else what is soloed, else all but the
    muted.

    A muted group mutes all inside it, and what is sent there. A soloed group solos all inside it; what leads there from
    elsewhere is heard there and nowhere else. A soloed track is heard with the groups that it is sent to; alone, a
    track is heard without them, but with those that stand for a room it will be put in. Listening to a group alone is
    listening to all that goes into it.

    Raises
    ------
    Nothing.

    Source: ours (docs/method.md, "Who is heard")
    """
    strips = {one.id: one for one in (*mix.tracks, *mix.groups)}
    parents = parents_of(mix.tracks, mix.groups, mix_id=mix.master.id)
    routes = tuple(routes_of(mix.tracks, mix.groups, mix_id=mix.master.id))
    around = {one: _around(one, parents) for one in strips}  # each, with the groups that it lies in
    alone = mix.alone_track_id if mix.alone_track_id in strips and not mix.heard_ids else None

    rooms: Collection[str] = set()  # that are heard with what is alone
    scope: Collection[str] = {*strips, mix.master.id}  # into which sound may go
    if alone is not None:
        inside = set() if isinstance(strips[alone], Track) else {alone, *sources_of(alone, routes)}
        stood_in = {group.id for group in mix.groups if group.stand_in and not group.mute}
        rooms = {route.target_id for route in routes if route.source_id in {alone, *inside}} & stood_in
        scope = inside | rooms
    before, behind = _neighbours(routes)
    wanted = {one for one in strips if any(strips[up].solo for up in around[one])}
    muted = {one for one in strips if any(strips[up].mute for up in around[one])}
    if mix.heard_ids:
        wanted = {one for one in strips if any(up in mix.heard_ids for up in around[one])}
        muted = {one for one in wanted if any(strips[up].mute for up in _below_named(around[one], mix.heard_ids))}
    elif alone is not None and isinstance(strips[alone], Track):
        wanted, muted = {alone}, set()

    @cache
    def carries(strip_id: str) -> bool:
        return isinstance(strips[strip_id], Track) or any(map(carries, before.get(strip_id, ())))

    @cache
    def feeds(strip_id: str) -> bool:
        return strip_id in wanted or any(map(feeds, before.get(strip_id, ())))

    @cache
    def leads(strip_id: str) -> bool:
        return strip_id in wanted or any(map(leads, behind.get(strip_id, ())))

    if scope and not any(
        route.target_id in scope
        and carries(route.source_id)
        and not wanted.isdisjoint((route.source_id, route.target_id))
        for route in routes
    ):
        wanted = set(strips)  # nobody is soloed who could be heard

    def is_open(route: Route) -> bool:
        on_path = alone is not None and route.send_db is None and route.source_id in (*around[alone], *rooms)
        if not (on_path or route.target_id in scope):
            return False
        if route.source_id in muted or (route.send_db is not None and route.target_id in muted):
            return False
        return feeds(route.source_id) or leads(route.target_id)

    are_open = {route: is_open(route) for route in routes}
    opened = tuple(route for route in routes if are_open[route])
    sounding = {route.source_id for route in opened}
    groups = {group.id for group in mix.groups}
    up = {one for one in strips if one not in muted and (one in groups or one in sounding)}
    return Audible(frozenset(up | {mix.master.id}), opened, tuple(route for route in routes if not are_open[route]))


def audible_tracks(mix: Mix) -> Mapping[str, bool]:
    """Return which tracks are heard; raises nothing. Source: `audible`."""
    heard = audible(mix).strip_ids
    return {track.id: track.id in heard for track in mix.tracks}


def _around(strip_id: str, parents: Mapping[str, str]) -> list[str]:
    """Return a strip and the groups that it lies in, from the inside out, without the mix."""
    found, at = [], strip_id
    while at in parents:
        found.append(at)
        at = parents[at]
    return found


def _below_named(around: Iterable[str], named: Collection[str]) -> Iterable[str]:
    return takewhile(lambda one: one not in named, around)


def _neighbours(routes: Iterable[Route]) -> tuple[Mapping[str, list[str]], Mapping[str, list[str]]]:
    """Return from where sound comes into each strip, and where it goes."""
    before: defaultdict[str, list[str]] = defaultdict(list)
    behind: defaultdict[str, list[str]] = defaultdict(list)
    for route in routes:
        before[route.target_id].append(route.source_id)
        behind[route.source_id].append(route.target_id)
    return before, behind
