"""What a track can be; the job's rules of thumb hang on it."""

from typing import Literal, get_args

__all__ = ["ROLES", "VOICES", "Role"]

Role = Literal[
    "lead voice", "backing voice", "kick", "snare", "toms", "cymbals", "hand percussion", "bass", "acoustic guitar",
    "electric guitar", "keys", "reeds", "strings", "brass", "full backing", "other",
]  # fmt: skip

ROLES: tuple[Role, ...] = get_args(Role)
VOICES: tuple[Role, ...] = ("lead voice", "backing voice")
