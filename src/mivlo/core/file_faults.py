"""What is wrong with a file as such: clipped, off zero, with gaps, with a side that is silent or the same."""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

import numpy as np

from mivlo.core.engine.source import Source, blocks_of
from mivlo.core.units import Array

__all__ = ["FileFault", "FileFaultKind", "find_file_faults", "length_faults"]

FileFaultKind = Literal[
    "clipped", "off-zero", "dropouts", "silent-side", "equal-sides", "late-start", "other-rate"
]  # fmt: skip

CLIPPED_FROM, CLIPPED_RUN, LEAST_CLIPS = 0.25, 3, 3  # of full scale; frames in a row at one value; so many times
FLAT = 1e-6
OFFSET_DBFS, OFFSET_BELOW_RMS_DB = -50.0, 26.0
GAP_S, LONGEST_GAP_S, AROUND_S, AROUND_DBFS = 0.002, 0.25, 0.005, -50.0
SIDE_DB = -80.0
LENGTHS_DIFFER_S, RATE_TOLERANCE = 1.0, 0.002
USUAL_RATES_HZ = (44_100.0, 48_000.0, 88_200.0, 96_000.0)
MOST_TOLD = 50


@dataclass(frozen=True, slots=True)
class FileFault:
    """A fault of a file: what, in a sentence, and where it is first heard (seconds of the file), if anywhere."""

    kind: FileFaultKind
    sentence: str
    times_s: tuple[float, ...] = ()


def find_file_faults(source: Source, *, sample_rate_hz: float) -> list[FileFault]:
    """Return what is wrong with the samples of a file.

    Raises
    ------
    Nothing.

    Source: ours; limits are common practice, no source
    """
    total, power, count = np.zeros(source.n_channels), np.zeros(source.n_channels), 0
    peak, differs = 0.0, 0.0
    clips: list[float] = []
    gaps: list[float] = []
    held = np.zeros((source.n_channels, 0))
    overlap = round((LONGEST_GAP_S + 2 * AROUND_S) * sample_rate_hz)
    for x in blocks_of(source, 0, source.n_frames):
        total += x.sum(axis=1)
        power += np.sum(x**2, axis=1)
        peak = max(peak, float(np.abs(x).max(initial=0.0)))
        if len(x) == 2:
            differs = max(differs, float(np.abs(x[0] - x[1]).max(initial=0.0)))
        joined = np.concatenate([held, x], axis=1)
        first = count - held.shape[1]
        clips += [(first + at) / sample_rate_hz for at in _clipped(joined) if first + at >= count or not count]
        found = [first + at for at in _gaps(joined, sample_rate_hz)]
        gaps += [at / sample_rate_hz for at in found if not gaps or at / sample_rate_hz > gaps[-1] + AROUND_S]
        count += x.shape[1]
        held = joined[:, -overlap:]
    if not count or peak <= 0.0:
        return []
    faults = []
    if len(clips) >= LEAST_CLIPS:
        faults.append(FileFault("clipped", f"is clipped {len(clips)} times", tuple(clips[:MOST_TOLD])))
    offset, rms = float(np.abs(total / count).max()), float(np.sqrt(power.sum() / count / len(power)))
    offset_db = 20.0 * np.log10(max(offset, 1e-12))
    if offset_db > OFFSET_DBFS and offset_db > 20.0 * np.log10(max(rms, 1e-12)) - OFFSET_BELOW_RMS_DB:
        faults.append(FileFault("off-zero", f"stands {offset_db:.0f} dBFS off zero all along"))
    if gaps:
        times = "once" if len(gaps) == 1 else f"{len(gaps)} times"
        faults.append(FileFault("dropouts", f"drops out {times}", tuple(gaps[:MOST_TOLD])))
    if len(power) == 2:
        side_db = 10.0 * np.log10((power + 1e-20) / (power[::-1] + 1e-20))
        if side_db.min() < SIDE_DB:
            faults.append(FileFault("silent-side", f"is silent on its {('left', 'right')[int(side_db.argmin())]} side"))
        elif differs <= FLAT * peak:
            faults.append(FileFault("equal-sides", "has two equal sides: it is mono"))
    return faults


def _clipped(x: Array) -> list[int]:
    """Return frames from which on the sound stands still at a peak."""
    found: set[int] = set()
    for row in x:
        high = np.flatnonzero(np.abs(row[1:]) >= CLIPPED_FROM)
        for first, last in _runs(high[np.abs(row[high + 1] - row[high]) <= FLAT]):
            value = abs(row[first])
            rises_to_it = first == 0 or abs(row[first - 1]) < value
            falls_from_it = last + 1 >= len(row) or abs(row[last + 1]) < value
            if last - first + 1 >= CLIPPED_RUN and rises_to_it and falls_from_it:
                found.add(int(first))
    return sorted(found)


def _runs(frames: np.ndarray) -> Iterator[tuple[int, int]]:
    """Yield the first of frames that follow on one another, and the frame behind the last of them."""
    breaks = np.flatnonzero(np.diff(frames) > 1) + 1
    for run in np.split(frames, breaks) if len(frames) else []:
        yield int(run[0]), int(run[-1]) + 1


def _gaps(x: Array, rate: float) -> list[int]:
    """Return frames at which a sound breaks off to nothing for a moment, and goes on as loudly."""
    around = max(round(AROUND_S * rate), 1)
    least = 10.0 ** (AROUND_DBFS / 20.0)
    found = []
    for first, last in _runs(np.flatnonzero(~x.any(axis=0))):
        if not GAP_S * rate <= last - first <= LONGEST_GAP_S * rate or first < around or last + around > x.shape[1]:
            continue
        sides = x[:, first - around : first], x[:, last : last + around]
        before, after = (np.sqrt(np.mean(part**2)) for part in sides)
        if min(before, after) > least:
            found.append(int(first))
    return found


def length_faults(
    seconds: float, *, start_s: float, longest_s: float, original_rate_hz: float
) -> list[FileFault]:  # fmt: skip
    """Return what the length of a file says beside the longest of its session: a late start, another rate.

    Raises
    ------
    Nothing.

    Source: ours
    """
    if not longest_s or seconds <= 0.0:
        return []
    ratio = seconds / longest_s
    for one in USUAL_RATES_HZ:
        for other in USUAL_RATES_HZ:
            if one != other and original_rate_hz in (one, other) and abs(ratio - one / other) <= RATE_TOLERANCE * ratio:
                percent = 100.0 * abs(one / other - 1.0)
                how = f"{percent:.1f} % {'shorter' if one < other else 'longer'}"
                return [FileFault("other-rate", f"is {how} than the longest: its rate may be wrong")]
    if start_s == 0.0 and longest_s - seconds > LENGTHS_DIFFER_S:
        sentence = f"is {longest_s - seconds:.1f} s shorter than the longest: it may start later than at 0"
        return [FileFault("late-start", sentence)]
    return []
