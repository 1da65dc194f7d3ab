"""The loop of the plane: from the power of each frame to what is shaved off its bins."""

import numpy as np
from numba import njit

from mivlo.core.kernels import FORGETTING

__all__ = ["frame_cuts"]

SLOPE_DB_PER_OCTAVE = 12.0  # of the cone under which a peak covers its surroundings
KNEE_DB = 3.0  # over the tolerance: from there on all that stands proud is shaved
LINE_TOLERANCE_DB = 3.0  # of lines, which waver
COVERED_DB = -8.0  # the lowest habit: a line below its surroundings that comes up is noticed before it stands proud
LINE_STEPS = 4  # bins from a line to where it must have fallen off
LINE_FROM_DB, LINE_RANGE_DB = 9.0, 5.0  # of that fall: from noise to a clear line
LINE_REACH = 4  # bins around a line that are the line's own
BORN_TOGETHER, BORN_NEAR_LOUDEST_DB, REMEMBERED = 3.0, 30.0, 0.8  # several lines at once, or a loud one, are a new note
SETTLING, PATIENCE, ESTABLISHED = 12.0, 4.0, 3.0  # frames
STRUCK_DB, STRUCK_PART = 4.5, 0.25  # within a frame: a line is struck anew; and of all bins, where it is a stroke
STROKE_FRAMES = 2.0  # for which an attack is let through
STANDS_FROM_DB, STANDS_RANGE_DB = -3.0, 6.0  # over the trend: below it a place is left alone, above it cut in full
SILENCE = 1e-13
FAST = {"contract", "reassoc", "nsz", "arcp"}


@njit(cache=True, nogil=True, fastmath=FAST, error_model="numpy")
def band_means(power, low, high, means):
    """Set means (frames, bins) float32 to the mean of power (frames, bins) float32 from bin low to high of each."""
    n_frames, n_bins = power.shape
    total = np.empty(n_bins + 1)
    scale = 1.0 / (high - low + 1)
    for t in range(n_frames):
        total[0] = 0.0
        for k in range(n_bins):
            total[k + 1] = total[k] + power[t, k]
        for k in range(n_bins):
            means[t, k] = (total[high[k] + 1] - total[low[k]]) * scale[k] + SILENCE


@njit(cache=True, nogil=True, fastmath=FAST, error_model="numpy")
def frame_cuts(
    power,
    levels,
    octave,
    gap_low,
    gap_high,
    trend_low,
    trend_high,
    tolerance,
    edge,
    learned,
    when_loud,
    loud,
    first,
    last,
    amount,
    spare,
    habits,
    cuts_db,
):
    """Set cuts_db (frames, bins) float32 to what stands proud in power (frames, bins) float32, smoothed in time.

    levels (frames, bins) float32: `band_means` in dB; octave (bins,): log2 of each bin; gap_low, gap_high, trend_low,
    trend_high (bins,) int64: the bins beyond which the surroundings begin, and over which the trend goes; first, last:
    the bins that count at all; tolerance (bins,): how far a level may stand out by chance, in dB; edge (bins,): 0
    where nothing may be shaved, to 1; learned (bins,): what each bin's place adds, in dB, which is cut while something
    stands there; when_loud (bins,): what each adds in the moments that are loud, loud (frames,) from 0 to 1; spare: how
    much of what is usual for a line is left to it, 0 to 1; habits
    (5, bins) is updated: how far each line usually stands out, for how many frames it has been there, and missed, the
    level of the last frame, and how many lines came up lately and for how long a stroke still sounds.
    """
    n_frames, n_bins = power.shape
    line, born = np.zeros(n_bins, dtype=np.float32), np.zeros(n_bins, dtype=np.bool_)
    step_db = np.empty(n_bins)
    for k in range(1, n_bins):
        step_db[k] = SLOPE_DB_PER_OCTAVE * (octave[k] - octave[k - 1])
    total_db, shape = np.empty(n_bins), np.empty(n_bins)
    cuts_db[:] = 0.0
    left, right, proud = np.empty(n_bins), np.empty(n_bins), np.empty(n_bins)
    near = LINE_STEPS + 2
    usual, age, gone, latest = habits[0], habits[1], habits[2], habits[3]
    for t in range(n_frames):
        row, level = power[t], levels[t]
        loudest = level[4]
        for k in range(4, n_bins):
            loudest = max(loudest, level[k])
        # Bent straight first: a sound that falls steeply would cover all that stands proud further up.
        total_db[0] = 0.0
        for k in range(1, n_bins):
            total_db[k] = total_db[k - 1] + level[k] * (octave[k] - octave[k - 1])
        for k in range(n_bins):
            a, b = trend_low[k], trend_high[k]
            shape[k] = level[k] - (total_db[b] - total_db[a]) / max(octave[b] - octave[a], 1e-9)
        left[0], right[n_bins - 1] = shape[0], shape[n_bins - 1]
        for k in range(1, n_bins):
            left[k] = max(left[k - 1] - step_db[k], shape[k])
        for k in range(n_bins - 2, -1, -1):
            right[k] = max(right[k + 1] - step_db[k + 1], shape[k])
        line[:] = 0.0
        for k in range(first, last):
            below = left[gap_low[k]] - SLOPE_DB_PER_OCTAVE * (octave[k] - octave[gap_low[k]])
            above = -300.0
            if gap_high[k] < n_bins:
                above = right[gap_high[k]] - SLOPE_DB_PER_OCTAVE * (octave[gap_high[k]] - octave[k])
            proud[k] = shape[k] - max(below, above)
        for k in range(max(first, near), min(last, n_bins - near)):
            # Compared with ratios, not decibels: most bins need no logarithm.
            here = row[k - 1] + row[k] + row[k + 1] + SILENCE
            upper, lower = row[k + 4] + row[k + 5] + row[k + 6], row[k - 4] + row[k - 5] + row[k - 6]
            there = max(upper, lower) + SILENCE
            if here > there * 7.94:  # LINE_FROM_DB
                fall = 10.0 * np.log10(here / there)
                strength = min((fall - LINE_FROM_DB) / LINE_RANGE_DB, 1.0)
                for i in range(max(k - LINE_REACH, 0), min(k + LINE_REACH + 1, n_bins)):
                    line[i] = max(line[i], strength)
        # A stroke: a good part of all bins has grown at once. The attack is let through, and all lines begin anew.
        n_struck = 0
        for k in range(first, last):
            if level[k] > latest[k] + STRUCK_DB:
                n_struck += 1
                if level[k] > loudest - BORN_NEAR_LOUDEST_DB:
                    age[k] = 0.0
        habits[4, 1] = STROKE_FRAMES if n_struck > STRUCK_PART * (last - first) else habits[4, 1] - 1.0
        n_born = REMEMBERED * habits[4, 0]
        for k in range(max(first, 1), last):
            born[k] = line[k] > 0.5 and age[k] <= 0.0
            if born[k] and not born[k - 1] and proud[k] > 0.0 and edge[k] > 0.0:
                n_born += 1.0
        habits[4, 0] = n_born
        for k in range(first, last):
            together = n_born >= BORN_TOGETHER
            if line[k] > 0.5:
                if born[k]:
                    is_note = together or level[k] > loudest - BORN_NEAR_LOUDEST_DB
                    usual[k] = max(proud[k], COVERED_DB) if is_note else 0.0
                    age[k] = 0.0
                elif age[k] < SETTLING and usual[k] != 0.0:
                    # A note's onset takes some frames: its partials may still grow.
                    usual[k] = max(usual[k], proud[k])
                else:
                    usual[k] += (FORGETTING if proud[k] > usual[k] else 4.0 * FORGETTING) * (
                        max(proud[k], COVERED_DB) - usual[k]
                    )
                age[k] += 1.0
                gone[k] = 0.0
            elif age[k] > 0.0:
                # A line that wavers is not gone at once.
                gone[k] += 1.0
                if gone[k] > PATIENCE or age[k] < ESTABLISHED:
                    age[k], usual[k] = 0.0, 0.0
            cut = when_loud[k] * loud[t]
            if learned[k] > 0.0:
                stands = min(max((shape[k] - STANDS_FROM_DB) / STANDS_RANGE_DB, 0.0), 1.0)
                cut = max(cut, learned[k] * stands)
            if habits[4, 1] > 0.0:
                usual[k] = max(usual[k], proud[k]) if age[k] > 0.0 else usual[k]
            else:
                over = proud[k] - spare * usual[k]
                bearable = tolerance[k] + (spare * LINE_TOLERANCE_DB if age[k] > 0.0 else 0.0)
                if over >= bearable + KNEE_DB:
                    cut = max(cut, over)
                elif over > bearable:
                    cut = max(cut, (over - bearable) * (bearable + KNEE_DB) / KNEE_DB)
            cuts_db[t, k] = cut * edge[k] * amount
            latest[k] = level[k]
        # Smoothed over neighbours, so that no cut has a ragged edge.
        before = cuts_db[t, 0]
        for k in range(1, n_bins - 1):
            here = cuts_db[t, k]
            cuts_db[t, k] = 0.25 * before + 0.5 * here + 0.25 * cuts_db[t, k + 1]
            before = here
