"""What a track can be; the job's rules of thumb hang on it."""

import re
from typing import Literal, get_args

__all__ = ["ROLES", "VOICES", "Role", "role_of_name"]

Role = Literal[
    "lead voice", "backing voice", "kick", "snare", "toms", "cymbals", "drum kit", "hand percussion", "bass",
    "acoustic guitar", "electric guitar", "keys", "reeds", "woodwind", "strings", "brass", "full backing", "other",
]  # fmt: skip

ROLES: tuple[Role, ...] = get_args(Role)
VOICES: tuple[Role, ...] = ("lead voice", "backing voice")
# Words by which files are named in the trade, those that decide first at the top (common practice, no source).
_WORDS: tuple[tuple[Role, str], ...] = (
    ("backing voice", r"bvs?|bgvs?|(backing|harmony|double) (voices?|vocals?|vox|voc)|choir"),
    ("lead voice", r"(lead )?(voices?|vocals?|vox|voc|ldv|singer)"),
    ("full backing", r"backing( ?tracks?)?|instrumental|playback|karaoke|2 ?track|two track|minus one"),
    ("kick", r"kicks?|kik|bd|bass ?drum"),
    ("snare", r"snares?|snr|sn|sd"),
    ("toms", r"(floor|rack)? ?toms?"),
    ("cymbals", r"cymbals?|cym|hi ?hats?|hats?|hh|rides?|crash|overheads?|oh|ohs"),
    (
        "hand percussion",
        r"perc|percussion|congas?|bongos?|shakers?|tamb|tambourine|cajon|djembe|spoons|claps?|frame drum",
    ),
    ("woodwind", r"(alto |bass |pan )?flutes?|fl|piccolos?|recorders?|(tin )?whistles?|pan ?pipes|wood ?winds?|ww"),
    ("drum kit", r"(drum ?)?kits?|drums|drum (bus|loop|mix)|(drum )?loops?|break ?beats?|beats?"),
    ("bass", r"bass|upright|sub|contrabass"),
    ("acoustic guitar", r"(acoustic|ac|nylon|steel) ?(guitars?|gtrs?|git)|acoustic|ukulele|banjo|mandolin"),
    ("electric guitar", r"(electric|el|elec|dist|lead|rhythm|clean|crunch)? ?(guitars?|gtrs?|git)"),
    ("keys", r"pianos?|pno|keys?|keyboards?|organ|synths?|pads?|harpsichord|clav"),
    ("reeds", r"sax|saxophones?|clarinets?|oboe|bassoon|accordion|squeezebox|harmonica|melodica"),
    ("strings", r"strings?|violins?|vln|violas?|cellos?|celli|fiddle"),
    ("brass", r"brass|trumpets?|tpt|trombones?|horns?|tuba"),
)


def role_of_name(name: str) -> Role:
    """Return what a track is by the name of its file, "other" where that says nothing; only a start, the user decides.

    Raises
    ------
    Nothing.

    Source: words of the trade (common practice, no source)
    """
    words = " ".join(re.findall(r"[a-z]+|[0-9]+", re.sub(r"(?<=[a-z])(?=[A-Z])", " ", name).lower()))
    return next((role for role, pattern in _WORDS if re.search(rf"\b({pattern})\b", words)), "other")
