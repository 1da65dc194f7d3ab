"""What of a stereo track a move acts on."""

from typing import Literal

import numpy as np

from mivlo.core.units import Array

__all__ = ["Channel", "lane_of", "put_lane_back"]

Channel = Literal["both", "left", "right", "mid", "side"]


def lane_of(x: Array, channel: Channel) -> Array:
    """Return what a move of a channel acts on, (1 or 2, n): x itself where that is all of it."""
    if x.shape[0] == 1 or channel == "both":
        return x
    if channel in ("left", "right"):
        index = 0 if channel == "left" else 1
        return x[index : index + 1]
    sign = 1.0 if channel == "mid" else -1.0
    return np.asarray(0.5 * (x[:1] + sign * x[1:]))


def put_lane_back(x: Array, channel: Channel, before: Array, after: Array) -> None:
    """Put what `lane_of` gave, and what became of it, back into x."""
    if x.shape[0] == 1 or channel == "both":
        x[:] = after
    elif channel in ("left", "right"):
        x[0 if channel == "left" else 1] = after[0]
    else:
        difference = after[0] - before[0]  # added as such: what is left alone stays the same to the bit
        x[0] += difference
        x[1] += difference if channel == "mid" else -difference
