"""Places on the axis that are worth a suspect: where the odds of a shape are high, and apart from each other."""

from typing import Literal, get_args

import numpy as np
from scipy.ndimage import maximum_filter1d, uniform_filter1d

from mivlo.core.finder.level_map import BANDS_PER_OCTAVE
from mivlo.core.units import Floats

__all__ = ["SHAPES", "Shape", "places"]

Shape = Literal["line", "hump", "harsh"]
SHAPES: tuple[Shape, ...] = get_args(Shape)
LEAST_ODDS = {"line": 0.00025, "hump": 0.0025, "harsh": 0.0025}  # an ear may want to look further down the list
APART = {"line": 4, "hump": BANDS_PER_OCTAVE // 2, "harsh": 25}  # bands
# Where a hump is, is told less sharply than where a line is: its place is where most odds lie within a third of an
# octave.
WITHIN = {"line": 1, "hump": BANDS_PER_OCTAVE // 3 + 1, "harsh": BANDS_PER_OCTAVE // 3 + 1}


def places(odds: Floats, shape: Shape, allowed: np.ndarray | None = None) -> list[tuple[int, float]]:
    """Return bands with their odds (0 to 1), of (bands,) odds of a shape; only `allowed` (bands,) where given.

    Raises
    ------
    Nothing.

    Source: ours
    """
    width, apart, least = WITHIN[shape], APART[shape], LEAST_ODDS[shape]
    within, highest = uniform_filter1d(odds, width, mode="constant"), maximum_filter1d(odds, width)
    if shape == "hump":
        tops = _from_the_top(within, apart, highest >= least)
    else:
        tops = np.flatnonzero((within >= maximum_filter1d(within, 2 * apart + 1)) & (highest >= least)).tolist()
    return [(band, float(highest[band])) for band in tops if allowed is None or allowed[band]]


def _from_the_top(within: Floats, apart: int, enough: np.ndarray) -> list[int]:
    """Return the highest of all, then the highest of what lies apart from it, and so on.

    What is told by its surroundings alone has odds like a wide hill: a shoulder of it may be the place as well as its
    top.
    """
    left, found = within.copy(), []
    while left[band := int(np.argmax(left))] > 0.0 and enough[band]:
        found.append(band)
        left[max(band - apart, 0) : band + apart + 1] = 0.0
    return found
