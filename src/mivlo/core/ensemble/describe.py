"""Clashes in plain words and as plain data."""

from collections.abc import Sequence
from typing import Any

from mivlo.core.ensemble.clashes import STRONG, Clash

__all__ = ["ALL_OTHERS", "as_plain", "names_of", "sentence", "weight_in_words", "what_can_be_won"]

ALL_OTHERS = "all others together"
OTHERS_TOO_PERCENT = 20.0  # that one track's cut can win back: below it, others are as much in the way


def names_of(clash: Clash, names: Sequence[str]) -> tuple[str, str]:
    """Return the names of the hidden track and of what hides it."""
    return names[clash.hidden], ALL_OTHERS if clash.by is None else names[clash.by]


def weight_in_words(clash: Clash) -> str:
    """Return how much a clash matters."""
    if clash.same_sound:
        return "the same sound"
    return "strong" if clash.strength >= STRONG else "moderate" if clash.strength >= STRONG / 2 else "slight"


def sentence(clash: Clash, names: Sequence[str]) -> str:
    """Return one sentence: who hides whom, where, and how much of the time."""
    hidden, by = names_of(clash, names)
    verb = "hide" if clash.by is None else "hides"
    if clash.same_sound:
        return f"{hidden} and {by} are the same sound: each hides the other, and no cut can decide it"
    return (
        f"between {_hz(clash.low_hz)} and {_hz(clash.high_hz)} {by} {verb} {hidden} {100 * clash.share_of_time:.0f} % "
        f"of the time they play together; it loses {clash.loss_percent:.0f} % of its loudness there"
    )


def what_can_be_won(clash: Clash, names: Sequence[str]) -> str:
    """Return one sentence: how much of what is lost a cut in the other can win back; empty where there is no such
    cut."""
    if clash.by is None or clash.same_sound:
        return ""
    part = f"{clash.winnable_percent:.0f} %"
    if clash.winnable_percent < OTHERS_TOO_PERCENT:
        return f"Others hide it there as well: a cut in {names[clash.by]} alone can win back {part} of that."
    return f"A cut can win back up to {part} of that."


def _hz(hz: float) -> str:
    return f"{hz / 1_000:.1f} kHz" if hz >= 1_000 else f"{round(hz / 10) * 10:.0f} Hz"


def as_plain(clash: Clash, names: Sequence[str], order: Sequence[int]) -> dict[str, Any]:
    """Return a clash as JSON has it, with who goes first by an order of the tracks; times in seconds."""
    hidden, by = names_of(clash, names)
    hidden_first = clash.by is None or order.index(clash.hidden) < order.index(clash.by)
    return {
        "hidden": hidden, "by": by, "low_hz": round(clash.low_hz, 1), "high_hz": round(clash.high_hz, 1),
        "centre_hz": round(clash.centre_hz, 1), "share_of_time": round(clash.share_of_time, 3),
        "loss_percent": round(clash.loss_percent, 1), "loss_sone": round(clash.loss_sone, 3),
        "strength": round(clash.strength, 3), "winnable_percent": round(clash.winnable_percent, 1),
        "weight": weight_in_words(clash), "goes_first": hidden if hidden_first else by,
        "times": [[round(a, 3), round(b, 3)] for a, b in clash.times],
    }  # fmt: skip
