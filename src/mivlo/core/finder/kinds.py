"""The words for what was found, after job.md; where a kind lives is common practice, no source."""

from typing import Literal

__all__ = ["HINTS", "Kind", "kind_of_hump", "kind_of_line"]

Kind = Literal[
    "rumble", "boom", "mud", "boxy", "ring", "honk", "papery", "whistle", "harsh", "fizz", "sibilance", "plosive", "hum",
    "clutter",
]  # fmt: skip

BOOM_BELOW_HZ, MUD_BELOW_HZ, BOXY_BELOW_HZ, HONK_BELOW_HZ = 150.0, 250.0, 620.0, 1_300.0
WHISTLE_FROM_HZ = 1_500.0

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


def kind_of_line(hz: float) -> Kind:
    """Return the word for a narrow line by where it lies."""
    if hz < BOOM_BELOW_HZ:
        return "boom"
    return "whistle" if hz >= WHISTLE_FROM_HZ else "ring"


def kind_of_hump(hz: float) -> Kind:
    """Return the word for a wide steady hump by where its centre lies."""
    if hz < BOOM_BELOW_HZ:
        return "boom"
    if hz < MUD_BELOW_HZ:
        return "mud"
    if hz < BOXY_BELOW_HZ:
        return "boxy"
    return "honk" if hz < HONK_BELOW_HZ else "harsh"
