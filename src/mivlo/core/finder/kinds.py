"""The words for what was found, after job.md; where a kind lives is common practice, no source."""

from typing import Literal

from mivlo.core.roles import Role

__all__ = ["HINTS", "STRUCK", "VERBS", "Kind", "kind_of_hump", "kind_of_line"]

Kind = Literal[
    "rumble",
    "boom",
    "mud",
    "boxy",
    "ring",
    "honk",
    "papery",
    "whistle",
    "harsh",
    "fizz",
    "sibilance",
    "plosive",
    "hum",
    "clutter",
]

BOOM_BELOW_HZ = 150.0
HUMPS: tuple[tuple[float, Kind], ...] = ((BOOM_BELOW_HZ, "boom"), (250.0, "mud"), (620.0, "boxy"), (1_300.0, "honk"))
WHISTLE_FROM_HZ = 1_500.0
RUMBLE_BELOW_HZ, BELOW_NOTES = 120.0, 0.75  # and so far under the lowest note: nobody plays there
PAPERY_FROM_HZ, PAPERY_TO_HZ = 950.0, 2_200.0
FIZZ_FROM_HZ = 2_200.0
STRUCK: tuple[Role, ...] = ("kick", "snare", "toms", "drum kit", "hand percussion")

# One sentence for each on what to listen for.
HINTS: dict[Kind, str] = {
    "rumble": "Below the lowest note: felt more than heard. Lift it and the loudspeaker moves without a tone.",
    "boom": "One low note swells and stays, whatever is played. Lifted, it drones.",
    "mud": "A blanket over the low mids: words and strokes lose their edges. Lifted, everything sounds behind a door.",
    "boxy": "As if played inside a cardboard box. Lifted, the box gets smaller.",
    "ring": "A pitch that goes on after the stroke and does not move with the notes. Lifted, you can hum it.",
    "honk": "A vowel like a nose held shut. Lifted, it quacks.",
    "papery": "The flap of a sheet of paper at each stroke. Lifted, it slaps.",
    "whistle": "A thin high line beside the notes, often an overtone. Lifted, it pierces.",
    "harsh": "Hurts only when it gets loud. Lifted, you want to turn down.",
    "fizz": "A haze like a detuned radio over distorted sound. Lifted, it crackles like frying.",
    "sibilance": "An s that stings. Lifted, every s is a whistle of steam.",
    "plosive": "A thump of breath on p and b. Lifted, it is a kick drum.",
    "hum": "The mains: steady through the pauses. Lifted, a transformer.",
    "clutter": "Small lines that belong to no note. Lifted, the sound turns metallic.",
}

# What a track does that has it.
VERBS: dict[Kind, str] = {
    "rumble": "rumbles",
    "boom": "booms",
    "mud": "is muddy",
    "boxy": "is boxy",
    "ring": "rings",
    "honk": "honks",
    "papery": "flaps like paper",
    "whistle": "whistles",
    "harsh": "is harsh",
    "fizz": "fizzes",
    "sibilance": "has stinging s",
    "plosive": "thumps on p and b",
    "hum": "hums",
    "clutter": "is cluttered",
}


def kind_of_line(hz: float, *, lowest_note_hz: float | None = None) -> Kind:
    """Return the word for a narrow line by where it lies, and whether that is below all notes."""
    if _is_rumble(hz, lowest_note_hz):
        return "rumble"
    if hz < BOOM_BELOW_HZ:
        return "boom"
    return "whistle" if hz >= WHISTLE_FROM_HZ else "ring"


def kind_of_hump(
    hz: float, *, role: Role | None = None, is_haze: bool = False, lowest_note_hz: float | None = None
) -> Kind:
    """Return the word for a wide steady hump: by where it lies, what the track is, and whether it is haze without
    lines."""
    if _is_rumble(hz, lowest_note_hz):
        return "rumble"
    if role in STRUCK and PAPERY_FROM_HZ <= hz <= PAPERY_TO_HZ:
        return "papery"
    for below_hz, kind in HUMPS:
        if hz < below_hz:
            return kind
    return "fizz" if is_haze and hz >= FIZZ_FROM_HZ else "harsh"


def _is_rumble(hz: float, lowest_note_hz: float | None) -> bool:
    return lowest_note_hz is not None and hz < min(RUMBLE_BELOW_HZ, BELOW_NOTES * lowest_note_hz)
