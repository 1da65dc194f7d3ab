"""Reading sessions, changing them undoably, and telling those who watch."""

from collections.abc import Callable
from typing import Any

from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from mivlo.core.ensemble.right_of_way import RightOfWay
from mivlo.core.errors import NotFoundError, ParameterError, StaleStateError
from mivlo.server.db.tables import AudioRow, Base, ChangeRow, GroupRow, SessionRow, TrackRow, new_id
from mivlo.server.services.state import (
    AddGroup,
    AudioState,
    Edit,
    EditGroup,
    EditSession,
    EditTrack,
    GroupView,
    RemoveGroup,
    RemoveTrack,
    SessionState,
    SessionSummary,
    Step,
    TrackState,
)

__all__ = [
    "add_track", "create_session", "edit_session", "list_sessions", "on_change", "read_session", "redo", "replace_audio", "undo",
]  # fmt: skip

Patch = dict[str, Any]
TRACK_COLUMNS = [column.key for column in TrackRow.__table__.columns if column.key not in ("session_id",)]
GROUP_COLUMNS = [column.key for column in GroupRow.__table__.columns if column.key not in ("session_id",)]
SHARED_BY_TWINS = ("ledger", "ledger_on", "phase", "keepers")
_watchers: list[Callable[[str, int], None]] = []


def on_change(watcher: Callable[[str, int], None]) -> None:
    """Call `watcher(session_id, revision)` after every change that this process commits."""
    _watchers.append(watcher)


def list_sessions(db: Session) -> list[SessionSummary]:
    """Return all sessions, newest first."""
    counts = dict(db.execute(select(TrackRow.session_id, func.count()).group_by(TrackRow.session_id)).tuples().all())
    rows = db.scalars(select(SessionRow).order_by(SessionRow.created_at.desc()))
    return [
        SessionSummary(
            id=row.id, name=row.name, sample_rate_hz=row.sample_rate_hz, n_tracks=counts.get(row.id, 0), is_demo=row.is_demo
        )
        for row in rows
    ]


def create_session(db: Session, *, name: str, sample_rate_hz: int, is_demo: bool = False) -> SessionState:
    """Make an empty session."""
    row = SessionRow(name=name, sample_rate_hz=sample_rate_hz, is_demo=is_demo, revision=0, history_at=0)
    db.add(row)
    db.flush()
    db.add(GroupRow(session_id=row.id, is_mix=True, name="Mix"))
    db.commit()
    return read_session(db, row.id)


def read_session(db: Session, session_id: str) -> SessionState:
    """Return a session; raises NotFoundError."""
    row = _session_row(db, session_id)
    tracks = db.execute(
        select(TrackRow, AudioRow)
        .join(AudioRow, TrackRow.audio_id == AudioRow.id)
        .where(TrackRow.session_id == session_id)
        .order_by(TrackRow.position)
    ).tuples()
    rows = db.scalars(select(GroupRow).where(GroupRow.session_id == session_id).order_by(GroupRow.position, GroupRow.id)).all()
    groups = {group.id: _group_view(group) for group in rows}
    return SessionState(
        id=row.id,
        name=row.name,
        sample_rate_hz=row.sample_rate_hz,
        loop_start_frame=row.loop_start_frame,
        loop_end_frame=row.loop_end_frame,
        sections=row.sections,
        right_of_way=RightOfWay.model_validate(row.right_of_way),
        revision=row.revision,
        undo_label=_label(db, session_id, row.history_at),
        redo_label=_label(db, session_id, row.history_at + 1),
        is_demo=row.is_demo,
        tracks=[_track_state(track, audio) for track, audio in tracks],
        groups=[groups[group.id] for group in rows if not group.is_mix],
        master=next(groups[group.id] for group in rows if group.is_mix),
    )


def edit_session(db: Session, session_id: str, edit: Edit) -> SessionState:
    """Make one change.

    Raises
    ------
    StaleStateError: the session has moved on from the edit's base
    NotFoundError: no such session or track
    """
    row = _session_row(db, session_id, base_revision=edit.base_revision, lock=True)
    patches: list[Patch] = []
    for step in edit.steps:  # each on what the steps before it have made: a track may join a group that is made with it
        made = _patches(db, row, step)
        _apply_all(db, row.id, made)
        patches += made
    return _record(db, row, edit.label, patches)


def add_track(
    db: Session, audio: AudioRow, *, name: str, role: str, start_frame: int = 0, gain_db: float = 0.0, pan: float = 0.0
) -> SessionState:
    """Add an imported file as a new track at the end, undoably."""
    row = _session_row(db, audio.session_id, lock=True)
    db.add(audio)
    db.flush()
    last = db.scalar(select(func.max(TrackRow.position)).where(TrackRow.session_id == row.id))
    track_id = new_id()
    values = {
        "id": track_id, "position": 0 if last is None else last + 1, "name": name, "role": role, "audio_id": audio.id,
        "start_frame": start_frame, "gain_db": gain_db, "pan": pan, "polarity_flipped": False, "solo": False,
        "mute": False, "ledger_on": True, "ledger": [], "pins": [],
    }  # fmt: skip
    patches = [_patch("track", track_id, None, values)]
    _apply_all(db, row.id, patches)
    return _record(db, row, f"Import {name}", patches)


def replace_audio(db: Session, track_id: str, audio: AudioRow) -> SessionState:
    """Give a track another file; its ledger stays."""
    track = db.get(TrackRow, track_id)
    if track is None:
        raise NotFoundError(f"track {track_id} is not there")
    row = _session_row(db, track.session_id, lock=True)
    db.add(audio)
    db.flush()
    patch = _patch("track", track_id, {"audio_id": track.audio_id}, {"audio_id": audio.id})
    _apply_all(db, row.id, [patch])
    return _record(db, row, f"Replace the audio of {track.name}", [patch])


def undo(db: Session, session_id: str, *, base_revision: int) -> SessionState:
    """Take the last change back; nothing happens where there is none."""
    row = _session_row(db, session_id, base_revision=base_revision, lock=True)
    change = _change(db, session_id, row.history_at)
    if change is not None:
        for patch in reversed(change.patches):
            _apply(db, session_id, patch, forward=False)
        row.history_at -= 1
        _commit(db, row)
    return read_session(db, session_id)


def redo(db: Session, session_id: str, *, base_revision: int) -> SessionState:
    """Make the change again that was last taken back."""
    row = _session_row(db, session_id, base_revision=base_revision, lock=True)
    change = _change(db, session_id, row.history_at + 1)
    if change is not None:
        _apply_all(db, session_id, change.patches)
        row.history_at += 1
        _commit(db, row)
    return read_session(db, session_id)


def _session_row(db: Session, session_id: str, *, base_revision: int | None = None, lock: bool = False) -> SessionRow:
    query = select(SessionRow).where(SessionRow.id == session_id)
    row = db.scalar(query.with_for_update() if lock else query)
    if row is None:
        raise NotFoundError(f"session {session_id} is not there")
    if base_revision is not None and row.revision != base_revision:
        raise StaleStateError(
            f"this page's state is of revision {base_revision}, but the session is at {row.revision}: "
            "another page changed it; it is loaded anew"
        )
    return row


def _group_view(group: GroupRow) -> GroupView:
    return GroupView.model_validate({name: getattr(group, name) for name in GroupView.model_fields})


def _track_state(track: TrackRow, audio: AudioRow) -> TrackState:
    audio_state = AudioState(**{name: getattr(audio, name) for name in AudioState.model_fields})
    return TrackState.model_validate({name: getattr(track, name) for name in TRACK_COLUMNS} | {"audio": audio_state})


def _patch(target: str, target_id: str, before: dict[str, Any] | None, after: dict[str, Any] | None) -> Patch:
    return {"target": target, "id": target_id, "before": before, "after": after}


def _patches(db: Session, row: SessionRow, step: Step) -> list[Patch]:
    match step:
        case EditSession():
            after = step.model_dump(include=step.model_fields_set - {"do"}, mode="json")
            return [_patch("session", row.id, {name: getattr(row, name) for name in after}, after)]
        case EditTrack():
            track = _track_row(db, row.id, step.track_id)
            after = step.fields.model_dump(include=step.fields.model_fields_set, mode="json")
            if after.get("group_id") is not None:
                _group_row(db, row.id, after["group_id"])
            patches = [_patch("track", track.id, {name: getattr(track, name) for name in after}, after)]
            return patches + _twin_patches(db, row.id, track, after)
        case RemoveTrack():
            track = _track_row(db, row.id, step.track_id)
            return [_patch("track", track.id, {name: getattr(track, name) for name in TRACK_COLUMNS}, None)]
        case EditGroup():
            group = _group_row(db, row.id, step.group_id)
            after = step.fields.model_dump(include=step.fields.model_fields_set, mode="json")
            return [_patch("group", group.id, {name: getattr(group, name) for name in after}, after)]
        case AddGroup():
            count = db.scalar(select(func.count()).where(GroupRow.session_id == row.id)) or 0
            values = {"id": step.group_id, "is_mix": False, "position": count, "name": step.name}
            return [_patch("group", step.group_id, None, values)]
        case RemoveGroup():
            group = _group_row(db, row.id, step.group_id)
            if group.is_mix:
                raise ParameterError("the mix is not a group that can be dissolved")
            members = db.scalars(select(TrackRow).where(TrackRow.session_id == row.id, TrackRow.group_id == group.id))
            leave = [_patch("track", track.id, {"group_id": group.id}, {"group_id": None}) for track in members]
            return [*leave, _patch("group", group.id, {name: getattr(group, name) for name in GROUP_COLUMNS}, None)]


def _twin_patches(db: Session, session_id: str, track: TrackRow, after: Patch) -> list[Patch]:
    """Return what an edit of one track means for its twins: they share one ledger, and take it over when they become twins."""
    twin_id = after.get("twin_id", track.twin_id)
    shared = {name: value for name, value in after.items() if name in SHARED_BY_TWINS}
    if twin_id is None or not shared:
        return []
    query = select(TrackRow).where(TrackRow.session_id == session_id, TrackRow.twin_id == twin_id, TrackRow.id != track.id)
    return [_patch("track", twin.id, {name: getattr(twin, name) for name in shared}, shared) for twin in db.scalars(query)]


def _group_row(db: Session, session_id: str, group_id: str) -> GroupRow:
    group = db.get(GroupRow, group_id)
    if group is None or group.session_id != session_id:
        raise NotFoundError(f"group {group_id} is not in this session")
    return group


def _track_row(db: Session, session_id: str, track_id: str) -> TrackRow:
    track = db.get(TrackRow, track_id)
    if track is None or track.session_id != session_id:
        raise NotFoundError(f"track {track_id} is not in this session")
    return track


def _record(db: Session, row: SessionRow, label: str, patches: list[Patch]) -> SessionState:
    """Write patches that were applied down as a new change; what could have been redone is forgotten."""
    db.execute(delete(ChangeRow).where(ChangeRow.session_id == row.id, ChangeRow.number > row.history_at))
    row.history_at += 1
    db.add(ChangeRow(session_id=row.id, number=row.history_at, label=label, patches=patches))
    _commit(db, row)
    return read_session(db, row.id)


def _apply_all(db: Session, session_id: str, patches: list[Patch]) -> None:
    for patch in patches:
        _apply(db, session_id, patch, forward=True)


def _apply(db: Session, session_id: str, patch: Patch, *, forward: bool) -> None:
    before, after = patch["before"], patch["after"]
    old, new = (before, after) if forward else (after, before)
    if patch["target"] == "session":
        _set(db.get_one(SessionRow, session_id), new)
        db.flush()
        return
    table: type[TrackRow] | type[GroupRow] = TrackRow if patch["target"] == "track" else GroupRow
    if old is None:
        db.add(table(session_id=session_id, **new))
    elif new is None:
        db.delete(db.get_one(table, patch["id"]))
    else:
        _set(db.get_one(table, patch["id"]), new)
    db.flush()


def _set(row: Base, values: dict[str, Any]) -> None:
    for name, value in values.items():
        setattr(row, name, value)


def _change(db: Session, session_id: str, number: int) -> ChangeRow | None:
    return db.scalar(select(ChangeRow).where(ChangeRow.session_id == session_id, ChangeRow.number == number))


def _label(db: Session, session_id: str, number: int) -> str | None:
    change = _change(db, session_id, number)
    return None if change is None else change.label


def _commit(db: Session, row: SessionRow) -> None:
    row.revision += 1
    db.commit()
    for watcher in _watchers:
        watcher(row.id, row.revision)
