"""Reading sessions, changing them undoably and once, and telling those who watch."""

import threading
from collections import OrderedDict
from collections.abc import Callable, Mapping, Sequence
from typing import Any

from pydantic import ValidationError
from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session as Database

from mivlo.core.errors import ConflictError, MivloError, NotFoundError, ParameterError
from mivlo.core.model import Audio, Group, Reference, Session, Strip, Track
from mivlo.core.model.intents import apply_all
from mivlo.core.model.placing import later_by, placed
from mivlo.core.treatment import explain_validation
from mivlo.server.db.news import Revised, tell
from mivlo.server.db.tables import AudioRow, ChangeRow, DraftRow, EditRow, SessionRow, StripRow, new_id
from mivlo.server.services.products import enqueue_listening
from mivlo.server.services.state import (
    Draft,
    Edit,
    Edited,
    SessionState,
    SessionSummary,
    StepInHistory,
    Undoable,
    audio_ids_in,
)

__all__ = [
    "STRIP_SCHEMA",
    "add_reference",
    "add_track",
    "create_session",
    "edit_session",
    "insert_session",
    "keep_draft",
    "list_sessions",
    "lock_session",
    "read_draft",
    "read_session",
    "redo",
    "replace_audio",
    "undo",
]

STRIP_SCHEMA = 1
OF_SESSION = (
    "name", "loop_start_frame", "loop_end_frame", "sections", "right_of_way", "judged", "treatments", "references",
)  # fmt: skip
DRAFTS_KEPT = 20
MOST_HELD = 8
LISTENS_AFTER_S = 1.0  # a fader that is nudged on and on is listened to once
Patch = dict[str, Any]
REFUSALS: dict[str, type[MivloError]] = {
    error.code: error for error in (ConflictError, NotFoundError, ParameterError, MivloError)
}
_holding = threading.Lock()
_held: OrderedDict[str, SessionState] = OrderedDict()  # as they were last read


def list_sessions(db: Database) -> list[SessionSummary]:
    """Return all sessions but those on the shelf, newest first."""
    tracks = select(StripRow.session_id, func.count()).where(StripRow.state["kind"].astext == "track")
    counts = dict(db.execute(tracks.group_by(StripRow.session_id)).all())
    here = select(SessionRow).where(SessionRow.shelved_at.is_(None))
    rows = db.scalars(here.order_by(SessionRow.created_at.desc()))
    return [
        SessionSummary(
            id=row.id,
            name=row.name,
            sample_rate_hz=row.sample_rate_hz,
            n_tracks=counts.get(row.id, 0),
            is_demo=row.is_demo,
        )
        for row in rows
    ]


def create_session(db: Database, *, name: str, sample_rate_hz: int, is_demo: bool = False) -> SessionState:
    """Make an empty session."""
    row = SessionRow(name=name, sample_rate_hz=sample_rate_hz, is_demo=is_demo, revision=0, history_at=0)
    db.add(row)
    db.flush()
    mix = Group(id=new_id(), name="Mix")
    db.add(StripRow(id=mix.id, session_id=row.id, is_mix=True, schema_version=STRIP_SCHEMA, state=_dump(mix)))
    db.commit()
    return read_session(db, row.id)


def insert_session(db: Database, session: Session, audio: Sequence[AudioRow]) -> None:
    """Insert a session that was made elsewhere, with its files; its history begins here. Does not commit."""
    row = SessionRow(id=session.id, sample_rate_hz=session.sample_rate_hz, is_demo=False, revision=0, history_at=0)
    for name in OF_SESSION:
        setattr(row, name, _dumped(getattr(session, name)))
    db.add(row)
    db.flush()
    db.add_all(audio)
    for position, strip in enumerate(session.strips()):
        is_mix = strip is session.master
        db.add(
            StripRow(
                id=strip.id, session_id=session.id, position=position, is_mix=is_mix, schema_version=STRIP_SCHEMA,
                state=_dump(strip),
            )
        )  # fmt: skip
    enqueue_listening(db, session.id)


def read_session(db: Database, session_id: str) -> SessionState:
    """Return a session; raises NotFoundError. To be called where this transaction has changed nothing of it: what was
    read of a revision is held, since every screen asks many questions about the same one."""
    row = _session_row(db, session_id)
    held = _held.get(row.id)
    if held is None or held.revision != row.revision:
        held = _content(db, row)
        with _holding:
            _held[row.id] = held
            _held.move_to_end(row.id)
            while len(_held) > MOST_HELD:
                _held.popitem(last=False)
    return held.model_copy(update=_history(db, row))


def _state(db: Database, row: SessionRow) -> SessionState:
    return _content(db, row).model_copy(update=_history(db, row))


def _history(db: Database, row: SessionRow) -> dict[str, Undoable | None]:
    """Return what can be taken back and made again; older changes can be forgotten without a new revision."""
    near = select(ChangeRow.number, ChangeRow.edit_id, ChangeRow.label).where(
        ChangeRow.session_id == row.id, ChangeRow.number.in_((row.history_at, row.history_at + 1))
    )
    found = {number: Undoable(edit_id=edit_id, label=label) for number, edit_id, label in db.execute(near)}
    return {"undo": found.get(row.history_at), "redo": found.get(row.history_at + 1)}


def _content(db: Database, row: SessionRow) -> SessionState:
    strips = _strip_rows(db, row.id)
    audio = db.execute(select(AudioRow.id, AudioRow.facts).where(AudioRow.session_id == row.id))
    tracks = [strip for strip in strips if strip.state["kind"] == "track"]
    used = {audio_id for one in (*(track.state for track in tracks), *row.references) for audio_id in audio_ids_in(one)}
    return SessionState.model_validate(
        {name: getattr(row, name) for name in ("id", "sample_rate_hz", "revision", "is_demo", *OF_SESSION)}
        | {
            "undo": None,
            "redo": None,
            "tracks": [track.state for track in tracks],
            "groups": [strip.state for strip in strips if strip.state["kind"] == "group" and not strip.is_mix],
            "master": next(strip.state for strip in strips if strip.is_mix),
            "audio": {audio_id: facts for audio_id, facts in audio if audio_id in used},
        }
    )


def edit_session(db: Database, session_id: str, edit: Edit) -> Edited:
    """Make one change, once.

    Raises
    ------
    ConflictError: something that it would change was changed, or taken away, from another page
    NotFoundError: no such session or track
    ParameterError: figures that would not go together
    """

    def make(row: SessionRow) -> None:
        before: Session = _state(db, row)
        after = apply_all(before, edit.intents)
        _record(db, row, before, after, edit_id=edit.id, author=edit.author, label=edit.label)

    return _once(db, session_id, edit.id, edit.author, make)


def undo(db: Database, session_id: str, step: StepInHistory) -> Edited:
    """Take the last change back, once.

    Raises
    ------
    ConflictError: the change that was seen is not the last one any more
    """

    def make(row: SessionRow) -> None:
        change = _next_in_history(db, session_id, row.history_at, step)
        for patch in reversed(change.patches):
            _apply(db, session_id, patch, forward=False)
        row.history_at -= 1
        row.revision += 1

    return _once(db, session_id, step.id, step.author, make)


def redo(db: Database, session_id: str, step: StepInHistory) -> Edited:
    """Make the change again that was last taken back, once; raises as `undo`."""

    def make(row: SessionRow) -> None:
        change = _next_in_history(db, session_id, row.history_at + 1, step)
        for patch in change.patches:
            _apply(db, session_id, patch, forward=True)
        row.history_at += 1
        row.revision += 1

    return _once(db, session_id, step.id, step.author, make)


def add_track(
    db: Database,
    audio: AudioRow,
    *,
    name: str,
    role: str,
    start_frame: int | None = None,
    gain_db: float = 0.0,
    pan: float = 0.0,
    author: str = "engineer",
) -> SessionState:
    """Add an imported file as a new track at the end, undoably; with no start, where the time belongs that it tells."""
    facts = Audio.model_validate(audio.facts)
    plain = {"id": new_id(), "name": name, "role": role, "audio_id": audio.id, "gain_db": gain_db, "pan": pan}

    def make(row: SessionRow) -> None:
        db.add(audio)
        db.flush()
        before = _state(db, row)
        start, others_later = placed(before, facts) if start_frame is None else (start_frame, 0)
        track = Track.model_validate({**plain, "start_frame": start})
        moved = later_by(before, others_later)
        after = moved.model_copy(update={"tracks": (*moved.tracks, track)})
        _record(db, row, before, after, edit_id=new_id(), author=author, label=f"Import {name}")

    return _once(db, audio.session_id, new_id(), author, make).session


def add_reference(db: Database, audio: AudioRow, *, name: str, author: str = "engineer") -> SessionState:
    """Keep an imported file as a mix to be heard beside the session's own, undoably."""
    reference = Reference(id=new_id(), name=name, audio_id=audio.id)

    def make(row: SessionRow) -> None:
        db.add(audio)
        db.flush()
        before: Session = _state(db, row)
        after = before.changed(references=(*before.references, reference))
        _record(db, row, before, after, edit_id=new_id(), author=author, label=f"Reference {name}")

    return _once(db, audio.session_id, new_id(), author, make).session


def replace_audio(db: Database, track_id: str, audio: AudioRow, *, author: str = "engineer") -> SessionState:
    """Give a track another file; its ledger stays."""

    def make(row: SessionRow) -> None:
        db.add(audio)
        db.flush()
        before: Session = _state(db, row)
        label = f"Replace the audio of {before.track(track_id).name}"
        after = before.with_strip(track_id, lambda _: {"audio_id": audio.id})
        _record(db, row, before, after, edit_id=new_id(), author=author, label=label)

    return _once(db, audio.session_id, new_id(), author, make).session


def keep_draft(db: Database, session_id: str, draft: Draft) -> None:
    """Remember intents that are to be heard and not taken, where they fit the session; raises as `edit_session`."""
    apply_all(read_session(db, session_id), draft.intents)
    intents = [intent.model_dump(mode="json", exclude_unset=True) for intent in draft.intents]
    db.merge(DraftRow(id=draft.id, session_id=session_id, intents=intents))
    db.flush()
    kept = select(DraftRow.id).where(DraftRow.session_id == session_id).order_by(DraftRow.created_at.desc())
    old = kept.offset(DRAFTS_KEPT)
    db.execute(delete(DraftRow).where(DraftRow.id.in_(old.scalar_subquery())))
    db.commit()


def read_draft(db: Database, session_id: str, draft_id: str) -> Draft:
    """Return what was drafted; raises NotFoundError."""
    row = db.get(DraftRow, draft_id)
    if row is None or row.session_id != session_id:
        raise NotFoundError(f"draft {draft_id:.80} is not there (any more)")
    return Draft.model_validate({"id": row.id, "intents": row.intents})


def _once(db: Database, session_id: str, edit_id: str, author: str, make: Callable[[SessionRow], None]) -> Edited:
    """Answer an edit: as before where it was answered before, else by making it; a refusal is remembered, too."""
    row = lock_session(db, session_id)
    known = db.get(EditRow, edit_id)
    if known is not None:
        return _as_before(db, row, known)
    try:
        make(row)
    except (MivloError, ValidationError) as error:
        db.rollback()
        refusal = {"code": getattr(error, "code", ParameterError.code), "message": _message_of(error)}
        db.add(EditRow(id=edit_id, session_id=session_id, author=author, revision=None, refusal=refusal))
        db.commit()
        raise
    db.add(EditRow(id=edit_id, session_id=session_id, author=author, revision=row.revision, refusal=None))
    tell(db, Revised(session_id=row.id, revision=row.revision))
    enqueue_listening(db, row.id, delay_s=LISTENS_AFTER_S)
    db.flush()
    answer = Edited(edit_id=edit_id, revision=row.revision, session=_state(db, row))
    db.commit()
    return answer


def _as_before(db: Database, row: SessionRow, known: EditRow) -> Edited:
    if known.session_id != row.id:
        raise ConflictError(f"the id {known.id} belongs to an edit of another session: give each edit one of its own")
    if known.revision is None:
        refusal = known.refusal or {}
        raise REFUSALS.get(refusal.get("code", ""), MivloError)(refusal.get("message", "refused"))
    return Edited(edit_id=known.id, revision=known.revision, session=_state(db, row))


def _message_of(error: Exception) -> str:
    return explain_validation(error) if isinstance(error, ValidationError) else str(error)


def _next_in_history(db: Database, session_id: str, number: int, step: StepInHistory) -> ChangeRow:
    change = _change(db, session_id, number)
    if change is None:
        raise ConflictError("that change is taken back, or made again, already")
    if change.edit_id != step.of:
        raise ConflictError(
            f"another page has changed something since: next would be “{change.label}”; ask again for that"
        )
    return change


def lock_session(db: Database, session_id: str) -> SessionRow:
    """Return a session's row, held until the end of the transaction; raises NotFoundError."""
    return _session_row(db, session_id, lock=True)


def _session_row(db: Database, session_id: str, *, lock: bool = False) -> SessionRow:
    query = select(SessionRow).where(SessionRow.id == session_id)
    # What refers to a session may be made meanwhile: it is changed, not deleted.
    row = db.scalar(query.with_for_update(key_share=True) if lock else query)
    if row is None:
        raise NotFoundError(f"session {session_id:.80} is not there")
    if row.shelved_at is not None:
        raise NotFoundError(f"session {row.name} was deleted; on the start page it can be brought back from the shelf")
    return row


def _strip_rows(db: Database, session_id: str) -> Sequence[StripRow]:
    query = select(StripRow).where(StripRow.session_id == session_id)
    rows = db.scalars(query.order_by(StripRow.position, StripRow.id)).all()
    newer = [row for row in rows if row.schema_version > STRIP_SCHEMA]
    if newer:
        raise MivloError(
            f"track {newer[0].id} was written by a newer Mivlo (schema {newer[0].schema_version}, this one knows "
            f"{STRIP_SCHEMA}): update Mivlo to open this session"
        )
    return rows


def _record(
    db: Database, row: SessionRow, before: Session, after: Session, *, edit_id: str, author: str, label: str
) -> None:
    """Write a change down with what it takes to take it back; what could have been redone is forgotten."""
    patches = _patches(db, before, after)
    if not patches:
        return
    for patch in patches:
        _apply(db, row.id, patch, forward=True)
    db.execute(delete(ChangeRow).where(ChangeRow.session_id == row.id, ChangeRow.number > row.history_at))
    row.history_at += 1
    row.revision += 1
    number = row.history_at
    db.add(ChangeRow(session_id=row.id, number=number, edit_id=edit_id, author=author, label=label, patches=patches))


def _dump(model: Session | Strip) -> dict[str, Any]:
    return model.model_dump(mode="json")


def _patches(db: Database, before: Session, after: Session) -> list[Patch]:
    """Return what differs between two states of a session, strip by strip and field by field."""
    patches = []
    old = {strip.id: strip for strip in before.strips()}
    new = {strip.id: strip for strip in after.strips()}
    position = 1 + (db.scalar(select(func.max(StripRow.position)).where(StripRow.session_id == before.id)) or 0)
    for strip_id in old | new:
        was, becomes = old.get(strip_id), new.get(strip_id)
        if was is becomes:
            continue
        if was is None or becomes is None:
            gone = None if was is None else {"position": db.get_one(StripRow, strip_id).position, **_dump(was)}
            added = None if becomes is None else {"position": position, **_dump(becomes)}
            patches.append(_patch("strip", strip_id, gone, added))
            position += 1
        else:
            patches += _differences("strip", strip_id, _dump(was), _dump(becomes))
    said = [{name: _dumped(getattr(one, name)) for name in OF_SESSION} for one in (before, after)]
    return patches + _differences("session", before.id, *said)


def _dumped(value: Any) -> Any:
    if isinstance(value, tuple):
        return [_dumped(one) for one in value]
    return value.model_dump(mode="json") if hasattr(value, "model_dump") else value


def _differences(target: str, target_id: str, was: Mapping[str, Any], becomes: Mapping[str, Any]) -> list[Patch]:
    names = [name for name in becomes if was[name] != becomes[name]]
    if not names:
        return []
    return [_patch(target, target_id, {name: was[name] for name in names}, {name: becomes[name] for name in names})]


def _patch(target: str, target_id: str, before: dict[str, Any] | None, after: dict[str, Any] | None) -> Patch:
    return {"target": target, "id": target_id, "before": before, "after": after}


def _apply(db: Database, session_id: str, patch: Patch, *, forward: bool) -> None:
    old, new = (patch["before"], patch["after"]) if forward else (patch["after"], patch["before"])
    if patch["target"] == "session":
        row = db.get_one(SessionRow, session_id)
        for name, value in new.items():
            setattr(row, name, value)
    elif new is None:
        db.delete(db.get_one(StripRow, patch["id"]))
    elif old is None:
        state = {name: value for name, value in new.items() if name != "position"}
        db.add(
            StripRow(
                id=patch["id"],
                session_id=session_id,
                position=new["position"],
                schema_version=STRIP_SCHEMA,
                state=state,
            )
        )
    else:
        strip = db.get_one(StripRow, patch["id"])
        strip.state = {**strip.state, **new}
    db.flush()


def _change(db: Database, session_id: str, number: int) -> ChangeRow | None:
    return db.scalar(select(ChangeRow).where(ChangeRow.session_id == session_id, ChangeRow.number == number))
