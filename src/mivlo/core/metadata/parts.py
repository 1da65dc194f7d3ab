"""What of a file is not sound: parts, as they stand there."""

from collections.abc import Sequence
from dataclasses import dataclass

__all__ = ["COMMENT", "Carried", "Part"]

COMMENT = bytes([4])  # a block of FLAC: names and values


@dataclass(frozen=True, slots=True)
class Part:
    """A RIFF chunk (`name` of four bytes) or, of FLAC, a metadata block (`name` is its number as one byte)."""

    name: bytes
    data: bytes
    is_before_sound: bool = True

    @property
    def is_chunk(self) -> bool:
        """Tell whether it is a RIFF chunk. Raises nothing. Source: ours."""
        return len(self.name) == 4


Carried = Sequence[Part]
