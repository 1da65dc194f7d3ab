"""Equal loudness for fair comparisons: what two ways of listening read, and by how much each is turned down."""

from collections.abc import Iterable

from pydantic import BaseModel

from mivlo.core.loudness import LoudnessMeter, TruePeakMeter
from mivlo.core.units import Array

__all__ = ["LevelMatch", "Loudness", "loudness_of", "matched"]


class Loudness(BaseModel):
    """Loudness and peak of one way of listening; None for silence and what is too short."""

    loudness_lufs: float | None
    true_peak_db: float | None


class LevelMatch(BaseModel):
    """Before and after what is compared, and by how much each is turned down so that both are equally loud."""

    before: Loudness
    after: Loudness
    match_before_db: float
    match_after_db: float


def loudness_of(blocks: Iterable[Array], *, sample_rate_hz: float) -> Loudness:
    """Return loudness and true peak of (channels, n) blocks that follow one another; raises nothing.

    Source: BS.1770-4, as in `core.loudness`
    """
    meter, peaks = LoudnessMeter(sample_rate_hz), TruePeakMeter()
    for block in blocks:
        meter.push(block)
        peaks.push(block)
    return Loudness(loudness_lufs=meter.integrated_lufs(), true_peak_db=peaks.true_peak_db())


def matched(before: Loudness, after: Loudness, *others: Loudness) -> LevelMatch:
    """Return the match of two readings, and of others: all are turned down to the softest.

    What has no loudness matches nothing.

    Raises
    ------
    Nothing.

    Source: ours
    """
    known = [one.loudness_lufs for one in (before, after, *others) if one.loudness_lufs is not None]
    by_db = [
        min(known) - one.loudness_lufs if one.loudness_lufs is not None and len(known) > 1 else 0.0
        for one in (before, after)
    ]
    return LevelMatch(before=before, after=after, match_before_db=by_db[0], match_after_db=by_db[1])
