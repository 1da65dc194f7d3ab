"""A session: its tracks, groups and mix, and what is said of the whole song."""

from collections.abc import Callable, Mapping
from typing import Any, Self

from pydantic import Field, model_validator

from mivlo.core.errors import NotFoundError, ParameterError
from mivlo.core.model.base import Frozen, Name, refuse_twins
from mivlo.core.model.ledger import Treatment, TreatmentName
from mivlo.core.model.marks import Judged, Section
from mivlo.core.model.references import Reference
from mivlo.core.model.rights import RightOfWay
from mivlo.core.model.routing import groups_in_order, routes_of, sources_of
from mivlo.core.model.strips import SHARED_BY_TWINS, Group, Track

__all__ = ["MIX_ID", "Session"]

MIX_ID = "mix"


class Session(Frozen):
    """All that the user has decided; frames are of the session's rate.

    Strips show the ledgers of one `treatment`; what the others hold of them stands in their variants.
    """

    id: str
    name: Name = Field(default="Session", min_length=1, max_length=120)
    sample_rate_hz: int
    loop_start_frame: int | None = Field(default=None, ge=0)
    loop_end_frame: int | None = Field(default=None, ge=0)
    sections: tuple[Section, ...] = Field(default=(), max_length=100)
    right_of_way: RightOfWay = RightOfWay()
    judged: tuple[Judged, ...] = Field(default=(), max_length=1_000)  # rows of the round
    treatment: Treatment = "A"
    treatments: tuple[TreatmentName, ...] = (TreatmentName(letter="A"),)
    references: tuple[Reference, ...] = Field(default=(), max_length=50)
    tracks: tuple[Track, ...] = ()
    groups: tuple[Group, ...] = ()
    master: Group = Group(id=MIX_ID, name="Mix")

    @model_validator(mode="after")
    def _ids_differ(self) -> Self:
        ids = (one.id for one in (*self.strips(), *self.references))
        refuse_twins(ids, "tracks, groups, the mix and its references")
        return self

    @model_validator(mode="after")
    def _sound_goes_somewhere(self) -> Self:
        try:
            self.check_routes()
        except ParameterError as error:
            raise ValueError(str(error)) from None
        return self

    def check_routes(self) -> None:
        """Check that no sound goes round in a circle, and none out of the mix.

        Raises
        ------
        ParameterError: it does; the message tells how

        Source: ours
        """
        if self.master.group_id is not None or self.master.sends:
            raise ParameterError("the mix is the outermost group: it is in no other one, and has no sends")
        groups_in_order(self.groups)

    def stands_in(self) -> bool:
        """Tell whether anything in it stands for what somebody does later. Raises nothing. Source: ours."""
        came_back = any(track.later is not None for track in self.tracks)
        return came_back or any(entry.move.stand_in for strip in self.strips() for entry in strip.ledger)

    def as_treated(self, letter: Treatment) -> Self:
        """Return the session with the ledgers of another treatment in all strips.

        Raises
        ------
        NotFoundError: no such treatment

        Source: ours
        """
        if letter == self.treatment:
            return self
        if all(one.letter != letter for one in self.treatments):
            raise NotFoundError(f"treatment {letter} is not in this session (any more)")

        def shown(one: Any) -> Any:
            return one.as_treated(self.treatment, letter)

        strips = {"tracks": tuple(map(shown, self.tracks)), "groups": tuple(map(shown, self.groups))}
        return self.model_copy(update={**strips, "master": shown(self.master), "treatment": letter})

    @property
    def lasting_groups(self) -> tuple[Group, ...]:
        """Return the groups without those that are only heard under pressure. Raises nothing. Source: ours."""
        return tuple(group for group in self.groups if not group.stand_in)

    def strips(self) -> tuple[Track | Group, ...]:
        """Return all tracks, then all groups, then the mix. Raises nothing. Source: ours."""
        return (*self.tracks, *self.groups, self.master)

    def strip(self, strip_id: str) -> Track | Group:
        """Return a track, a group or the mix; raises NotFoundError. Source: ours."""
        for strip in self.strips():
            if strip.id == strip_id:
                return strip
        raise NotFoundError(f"track or group {strip_id:.80} is not in this session")

    def reference(self, reference_id: str) -> Reference:
        """Return a reference; raises NotFoundError. Source: ours."""
        for reference in self.references:
            if reference.id == reference_id:
                return reference
        raise NotFoundError(f"reference {reference_id:.80} is not in this session (any more)")

    def sounding(self, one_id: str) -> Track | Group:
        """Return a strip, or a reference as a track by itself; raises NotFoundError. Source: ours."""
        if any(one.id == one_id for one in self.references):
            return self.reference(one_id).as_track
        return self.strip(one_id)

    def track(self, track_id: str) -> Track:
        """Return a track; raises NotFoundError. Source: ours."""
        for track in self.tracks:
            if track.id == track_id:
                return track
        raise NotFoundError(f"track {track_id:.80} is not in this session")

    def group(self, group_id: str) -> Group:
        """Return a group or the mix; raises NotFoundError. Source: ours."""
        for group in (*self.groups, self.master):
            if group.id == group_id:
                return group
        raise NotFoundError(f"group {group_id:.80} is not in this session")

    def sources_of(self, strip_id: str) -> frozenset[str]:
        """Return the ids of all whose sound comes into a group or the mix; raises nothing. Source: `sources_of`."""
        return sources_of(strip_id, routes_of(self.tracks, self.groups, mix_id=self.master.id))

    def changed(self, **fields: Any) -> Self:
        """Return the session with other fields, checked anew; raises ValidationError. Source: ours."""
        return type(self).model_validate({name: getattr(self, name) for name in type(self).model_fields} | fields)

    def with_strip(self, strip_id: str, change: Callable[[Track | Group], Mapping[str, Any]]) -> Self:
        """Return the session with other fields of one strip, and of its twins those that twins share.

        Raises
        ------
        NotFoundError: no such strip
        ValidationError: what a field must not be

        Source: ours
        """
        strip = self.strip(strip_id)
        fields = dict(change(strip))
        twin_id = fields.get("twin_id", strip.twin_id) if isinstance(strip, Track) else None
        shared = {name: value for name, value in fields.items() if name in SHARED_BY_TWINS}

        def changed(one: Any) -> Any:
            if one.id == strip_id:
                return _with_fields(one, fields)
            is_twin = isinstance(one, Track) and twin_id is not None and one.twin_id == twin_id
            return _with_fields(one, shared) if is_twin and shared else one

        return self.model_copy(
            update={
                "tracks": tuple(map(changed, self.tracks)),
                "groups": tuple(map(changed, self.groups)),
                "master": changed(self.master),
            }
        )


def _with_fields(strip: Track | Group, fields: Mapping[str, Any]) -> Track | Group:
    return type(strip).model_validate({name: getattr(strip, name) for name in type(strip).model_fields} | dict(fields))
