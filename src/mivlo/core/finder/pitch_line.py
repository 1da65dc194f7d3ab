"""The pitch line of a track with one voice: a line that does not follow it is plain to see beside it."""

from dataclasses import dataclass

import numpy as np
from scipy.ndimage import median_filter

from mivlo.core.engine.source import Source
from mivlo.core.finder.level_map import BANDS_PER_OCTAVE, level_map
from mivlo.core.finder.measures import refined_hz, track_notes
from mivlo.core.units import Floats

__all__ = ["PitchLine", "pitch_line"]

ACTIVE_DB = 35.0  # below the loudest frame: what is fainter is between the notes
SMOOTHED_FRAMES = 5
STEADY_BANDS = 3.0  # from the median of its neighbours: further off, a frame is a slip
REACH_DB = 30.0  # below the strongest line: what is fainter (bow, breath, body) would draw the series down
CLEAR = 0.55  # of all lines within reach are explained by one note
MOSTLY = 0.35  # of the sounding frames must be clear, or there is no one voice


@dataclass(frozen=True, slots=True)
class PitchLine:
    """`times_s` and `hz` (points,), NaN in `hz` where the line breaks; `one_voice` tells whether to believe it."""

    times_s: Floats
    hz: Floats
    one_voice: bool


def pitch_line(source: Source, *, start: int, end: int, sample_rate_hz: float) -> PitchLine:
    """Return the fundamental of what sounds over a stretch.

    Raises
    ------
    Nothing.

    Source: sub-harmonic summation (`track_notes`), the fundamental then read off the spectrum around it by a parabola
    """
    levels = level_map(source, start=start, end=end, sample_rate_hz=sample_rate_hz)
    active = np.flatnonzero(levels.power_db > levels.power_db.max() - ACTIVE_DB)
    hz = np.full(len(levels.times_s), np.nan)
    if len(active) < SMOOTHED_FRAMES or levels.power_db.max() < -90.0:
        return PitchLine(levels.times_s, hz, one_voice=False)
    notes = track_notes(levels, active, reach_db=REACH_DB)
    steady = np.abs(notes.roots - median_filter(notes.roots, SMOOTHED_FRAMES, mode="nearest")) <= STEADY_BANDS
    believed = (notes.explained > CLEAR) & steady
    for frame, root in zip(active[believed], notes.roots[believed], strict=True):
        hz[frame] = _fundamental(levels.hz, levels.levels_db[frame], int(root))
    return PitchLine(levels.times_s, hz, one_voice=bool(np.mean(believed) >= MOSTLY))


def _fundamental(hz: Floats, level_db: Floats, root: int) -> float:
    """Return the fundamental beside a root, read off the strongest of its first three partials."""
    readings = []
    for number in (1, 2, 3):
        at = root + round(BANDS_PER_OCTAVE * float(np.log2(number)))
        if 2 <= at < len(hz) - 2:
            top = at - 2 + int(np.argmax(level_db[at - 2 : at + 3]))
            readings.append((float(level_db[top]), refined_hz(hz, level_db, top) / number))
    return max(readings)[1] if readings else float(hz[root])
