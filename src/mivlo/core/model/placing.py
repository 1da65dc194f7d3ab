"""Where a file belongs in a session by the time that it tells: the earliest time is the session's beginning."""

from typing import Any

from mivlo.core.model.recorded import Audio, RecordedSession
from mivlo.core.model.session import Session

__all__ = ["later_by", "placed"]

LONGEST_S = 6 * 3_600.0  # apart: what lies further is of another day, or tells no time at all


def placed(session: RecordedSession, audio: Audio) -> tuple[int, int]:
    """Return where a new track of a file starts, and by how many frames all others have to start later for that.

    Raises
    ------
    Nothing: who tells no time starts with the session.

    Source: definitions of this project
    """
    rate = session.sample_rate_hz
    if audio.time_reference is None:
        return 0, 0
    own_s = audio.time_reference / audio.original_rate_hz
    for track in session.tracks:
        known = session.audio_of(track)
        if known.time_reference is None:
            continue
        start = round((own_s - known.time_reference / known.original_rate_hz) * rate) + track.start_frame
        if abs(start) > LONGEST_S * rate or (start < 0 and _is_worked_on(session)):
            return 0, 0
        return max(start, 0), max(-start, 0)
    return 0, 0


def _is_worked_on(session: Session) -> bool:
    """Tell whether anything hangs on times that would have to move with the tracks."""
    strips = session.strips()
    return any(strip.ledger or strip.variants or strip.remarks for strip in strips) or bool(session.sections)


def later_by(session: Session, frames: int) -> Session:
    """Return a session whose tracks all start later, and its loop and references with them. Raises nothing."""
    if not frames:
        return session

    def later(one: Any) -> Any:
        update: dict[str, Any] = {"start_frame": one.start_frame + frames}
        back = getattr(one, "later", None)
        if back is not None:
            update["later"] = back.model_copy(update={"start_frame": back.start_frame + frames})
        return one.model_copy(update=update)

    def moved(frame: int | None) -> int | None:
        return None if frame is None else frame + frames

    return session.model_copy(
        update={
            "tracks": tuple(map(later, session.tracks)),
            "references": tuple(map(later, session.references)),
            "loop_start_frame": moved(session.loop_start_frame),
            "loop_end_frame": moved(session.loop_end_frame),
        }
    )
