"""Findings as plain values and as sentences."""

from typing import Any

from mivlo.core.finder.stretch import Findings, Suspect
from mivlo.core.finder.survey import Survey
from mivlo.core.units import hz_to_note

__all__ = ["as_plain", "sentence", "sureness", "survey_as_plain"]

RINGS_LONGER = 1.4  # than its neighbours: then the ring is what is told of it
MOST_TIME, LITTLE_TIME = 0.75, 0.25


def as_plain(findings: Findings) -> dict[str, Any]:
    """Return what `mivlo find --json` prints."""
    return {
        "suspects": [
            {
                "hz": suspect.hz,
                "q": suspect.q,
                "excess_db": suspect.excess_db,
                "ring_s": suspect.ring_s,
                "confidence": suspect.confidence,
                "kind": suspect.kind,
                "behaviour": suspect.behaviour,
                "times": [list(times) for times in suspect.times],
                "follows_notes": suspect.follows_notes,
                "share_of_time": suspect.share_of_time,
                "move": suspect.move.model_dump(mode="json"),
            }
            for suspect in findings.suspects
        ],
        "events": [
            {"kind": event.kind, "start_s": event.start_s, "end_s": event.end_s, "hz": event.hz}
            for event in findings.events
        ],
    }


def survey_as_plain(found: Survey) -> dict[str, Any]:
    """Return what `mivlo survey --json` prints: each cut with its move's own figures and, as in `find`, the move."""
    curve = found.curve
    cuts = []
    for cut in found.cuts:
        move = cut.move.model_dump(mode="json")
        facts = {"excess_db": round(cut.excess_db, 2), "sure": round(cut.sure, 3), "reason": cut.reason}
        facts |= {"share_of_time": round(cut.share_of_time, 3), "nearest_note": cut.nearest_note}
        cuts.append(move | facts | {"move": move})
    return {
        "cuts": cuts,
        "plane": found.plane.model_dump(mode="json"),
        "curve": {
            "hz": [round(float(one), 2) for one in curve.hz],
            "db": [round(float(one), 2) for one in curve.db],
            "sure": [round(float(one), 3) for one in curve.sure],
            "loud_db": [round(float(one), 2) for one in curve.loud_db],
        },
    }


def sureness(confidence: float) -> str:
    """Return how sure, in words; by how many such suspects were planted (bench/finder/confidence.py): nine in ten and
    more, two in three, one in two, one in three, less."""
    for least, words in ((0.65, "almost certain"), (0.35, "likely"), (0.2, "possible"), (0.1, "a guess")):
        if confidence >= least:
            return words
    return "barely"


def sentence(suspect: Suspect) -> str:
    """Return the evidence as one plain sentence."""
    note, cents = hz_to_note(suspect.hz)
    place = f"{suspect.hz:.0f} Hz ({note} {cents:+.0f} ct)"
    if suspect.behaviour == "burst":
        return f"{len(suspect.times)} times, {suspect.excess_db:.0f} dB above what runs there"
    parts = []
    if (
        suspect.ring_s is not None
        and suspect.ring_around_s is not None
        and suspect.ring_s > RINGS_LONGER * suspect.ring_around_s
    ):
        parts.append(f"rings {suspect.ring_s:.1f} s at {place}, its neighbours {suspect.ring_around_s:.1f} s")
    else:
        parts.append(f"stands {suspect.excess_db:.0f} dB out at {place}")
    if suspect.follows_notes is False:
        parts.append("whatever is played")
    elif suspect.follows_notes is True:
        parts.append("but goes with the notes")
    if suspect.behaviour == "when-loud":
        parts.append("only when it gets loud")
    elif suspect.share_of_time >= MOST_TIME:
        parts.append("nearly all the time")
    elif suspect.share_of_time <= LITTLE_TIME:
        parts.append("now and then")
    return ", ".join(parts)
