"""Plosives and sibilants of a voice: short events with their times, told by how they rise, last and are coloured."""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

import numpy as np
from scipy.fft import rfft
from scipy.ndimage import percentile_filter, uniform_filter1d

from mivlo.core import kernels
from mivlo.core.engine.source import Source
from mivlo.core.processors.timed import Spans
from mivlo.core.spectra.windows import halved_rate
from mivlo.core.units import Array

__all__ = ["BurstKind", "Event", "find_events", "over_at"]

BurstKind = Literal["plosive", "sibilance"]

HOP_S, WINDOW_S = 0.004, 0.012
HALVINGS = 4  # of the rate for the low band
LOW_WINDOW_S = 0.024  # a cycle of 40 Hz: below it there is no level to speak of
LOW_HZ, MIDDLE_HZ, HIGH_HZ = (20.0, 120.0), (250.0, 3_000.0), (4_500.0, 14_000.0)
RUNNING_S = 1.0  # over which the level that an event stands above is taken
CHUNK_S = 20.0
# Common practice, no source: a plosive is far above the running level of its band and short; a sibilant is broad,
# high, and neither struck like a cymbal nor held like a note.
PLOSIVE_OVER_DB, SIBILANT_OVER_DB = 12.0, 12.0
PLOSIVE_S, SIBILANT_S = (0.02, 0.2), (0.03, 0.4)
PLOSIVE_RISE_S, SIBILANT_RISE_S = 0.045, 0.012  # at most; at least
VOICED_SHARE, SOUNDING_DB, MOST_A_SECOND = 0.3, 15.0, 1.4  # of a voice, where it is not known to be one
EDGE_DB = 16.0  # below its top an event begins and ends
COLOUR_DB = 10.0  # by how much its band stands over the middle more than is usual in the loud half of the voice
PLOSIVE_BELOW_DB, SIBILANT_BELOW_DB = 12.0, 20.0  # the loudest of the voice: what is lower disturbs nobody
AUDIBLE_DB = -70.0


@dataclass(frozen=True, slots=True)
class Event:
    """A plosive or a sibilant: where it begins and ends, and the middle of what it holds."""

    kind: BurstKind
    start_s: float
    end_s: float
    hz: float
    over_db: float


def find_events(
    source: Source, *, start: int, end: int, sample_rate_hz: float, surely_a_voice: bool = True
) -> list[Event]:  # fmt: skip
    """Return the plosives and sibilants of a stretch of a voice, by time; none of what sounds like no voice, where
    that is open.

    Raises
    ------
    Nothing.

    Source: short-time band levels against their running median; limits are common practice (job.md) and ours
    """
    parts = list(_band_levels(source, start, end, sample_rate_hz))
    if not parts:
        return []
    low, middle, high, high_hz = (np.concatenate(rows) for rows in zip(*parts, strict=True))
    offset_s, hop_s = start / sample_rate_hz, _hop_frames(sample_rate_hz) / sample_rate_hz
    events = [*_plosives(low, middle), *_sibilants(middle, high, high_hz)]
    if not surely_a_voice and not _like_a_voice(middle, events):
        return []
    return sorted((_placed(event, offset_s, hop_s / HOP_S) for event in events), key=lambda event: event.start_s)


def over_at(
    source: Source, kind: BurstKind, times: Spans, *, start: int, end: int, sample_rate_hz: float
) -> float:  # fmt: skip
    """Return by how many dB bursts of a kind at times (start_s, end_s) stand over what runs there: the median over
    them.

    Raises
    ------
    Nothing.
    """
    parts = list(_band_levels(source, start, end, sample_rate_hz))
    if not parts or not times:
        return 0.0
    low, _, high, _ = (np.concatenate(rows) for rows in zip(*parts, strict=True))
    _, over = _low_over(low) if kind == "plosive" else _high_over(high)
    hop_s = _hop_frames(sample_rate_hz) / sample_rate_hz
    at = [[round((edge - start / sample_rate_hz) / hop_s) for edge in span] for span in times]
    tops = [float(np.max(over[max(a, 0) : b + 1])) for a, b in at if b >= 0 and a < len(over)]
    return max(float(np.median(tops)), 0.0) if tops else 0.0


def _placed(event: Event, offset_s: float, stretch: float) -> Event:
    """Return an event in the source's time: the hop is not HOP_S to the last frame at every rate."""
    start_s, end_s = (offset_s + stretch * seconds for seconds in (event.start_s, event.end_s))
    return Event(event.kind, start_s, end_s, event.hz, event.over_db)


def _like_a_voice(middle: Array, events: list[Event]) -> bool:
    """Tell whether the middle sounds for long and events are few: of drums, every stroke would be one."""
    sounding = float(np.mean(middle > np.percentile(middle, 95.0) - SOUNDING_DB))
    return sounding >= VOICED_SHARE and len(events) <= MOST_A_SECOND * len(middle) * HOP_S


def _hop_frames(rate: float) -> int:
    slower = 1 << HALVINGS
    return max(1, round(HOP_S * rate / slower)) * slower


def _band_levels(source: Source, start: int, end: int, rate: float) -> Iterator[tuple[Array, Array, Array, Array]]:
    """Yield, a piece at a time, the levels in dB of the three bands and the middle of the high one, every HOP_S."""
    slower = 1 << HALVINGS
    hop, long = _hop_frames(rate), round(LOW_WINDOW_S * rate / slower) * slower
    short = round(WINDOW_S * rate / 2) * 2
    step = max(round(CHUNK_S * rate) // hop, 1) * hop
    for first in range(start, end, step):
        count = min(step, end - first) // hop
        if not count:
            return
        mono = source.read(first - long, count * hop + 2 * long).mean(axis=0).astype(np.float32)
        mono[: max(start - (first - long), 0)] = 0.0
        mono[max(end - (first - long), 0) :] = 0.0
        windows = np.lib.stride_tricks.sliding_window_view(mono, short)[long - short // 2 :: hop][:count]
        hz = np.arange(short // 2 + 1) * rate / short
        middle, high = (tuple(np.searchsorted(hz, edges)) for edges in (MIDDLE_HZ, HIGH_HZ))
        spectrum = rfft(windows * np.hanning(short).astype(np.float32), axis=1)
        power, moment = np.empty((2, count), dtype=np.float32), np.empty(count)
        full = np.float32(short * short / 8.0)
        kernels.burst_bands.band_powers(spectrum, full, hz, middle, high, power, moment)
        slow = mono[None]
        for _ in range(HALVINGS):
            slow = halved_rate(slow)
        deep_windows = np.lib.stride_tricks.sliding_window_view(slow[0], 2 * long // slower)[:: hop // slower][:count]
        deep = deep_windows @ _low_basis(2 * long // slower, rate / slower)
        bands = ((deep.real**2 + deep.imag**2).sum(axis=1), *power)
        low_db, middle_db, high_db = (10.0 * np.log10(band + 1e-13) for band in bands)
        yield low_db, middle_db, high_db, moment / (power[1] + 1e-12)


def _low_basis(size: int, rate: float) -> Array:
    """Return (size, lines) of windowed oscillations through the low band: a few lines of a Fourier transform."""
    hz = np.arange(LOW_HZ[0], LOW_HZ[1], rate / size / 2.0)
    window = np.hanning(size)
    basis = window[:, None] * np.exp(-2j * np.pi * hz * np.arange(size)[:, None] / rate)
    return np.asarray(basis / window.sum() * 2.0, dtype=np.complex64)


def _running(level: Array, percentile: float) -> Array:
    """Return a level's running percentile over RUNNING_S, computed on a coarser grid."""
    every = 5
    coarse = percentile_filter(level[::every], percentile, size=round(RUNNING_S / HOP_S / every) | 1, mode="nearest")
    return np.asarray(np.repeat(coarse, every)[: len(level)])


def _low_over(low: Array) -> tuple[Array, Array]:
    """Return the level of the low band, and by how much it stands over what runs there."""
    return low, low - np.maximum(_running(low, 55.0), AUDIBLE_DB)


def _high_over(high: Array) -> tuple[Array, Array]:
    """Return the level of the high band, smoothed over 12 ms, and by how much it stands over what runs there."""
    smooth = 10.0 * np.log10(uniform_filter1d(10.0 ** (high / 10.0), 3))
    return smooth, smooth - np.maximum(_running(smooth, 45.0), AUDIBLE_DB - 10.0)


def _plosives(low: Array, middle: Array) -> Iterator[Event]:
    low, over = _low_over(low)
    colour = low - middle
    usual = float(np.median(colour[middle >= np.percentile(middle, 60.0)]))
    floor = float(np.percentile(middle, 95.0)) - PLOSIVE_BELOW_DB
    for first, top, last in _bursts(low, over, PLOSIVE_OVER_DB, floor):
        rise_s, length_s = _rise_s(low, first, top), (last - first) * HOP_S
        if PLOSIVE_S[0] <= length_s <= PLOSIVE_S[1] and rise_s <= PLOSIVE_RISE_S and colour[top] > usual + COLOUR_DB:
            yield Event("plosive", first * HOP_S, last * HOP_S, 60.0, float(over[top]))


def _sibilants(middle: Array, high: Array, high_hz: Array) -> Iterator[Event]:
    smooth, over = _high_over(high)
    colours = high - middle
    usual = float(np.median(colours[middle >= np.percentile(middle, 60.0)]))
    floor = float(np.percentile(middle, 95.0)) - SIBILANT_BELOW_DB
    for first, top, last in _bursts(smooth, over, SIBILANT_OVER_DB, floor):
        stretch = slice(first, last + 1)
        colour = float(np.median(colours[stretch]))
        rise_s, length_s = _rise_s(smooth, first, top), (last - first) * HOP_S
        if SIBILANT_S[0] <= length_s <= SIBILANT_S[1] and rise_s >= SIBILANT_RISE_S and colour > usual + COLOUR_DB:
            yield Event("sibilance", first * HOP_S, last * HOP_S, float(np.median(high_hz[stretch])), float(over[top]))


def _bursts(level: Array, over: Array, needed_db: float, floor_db: float) -> Iterator[tuple[int, int, int]]:
    """Yield first, highest and last step of every stretch that stands over what runs, widened to its edges."""
    standing = (over > needed_db) & (level > floor_db)
    edges = np.flatnonzero(np.diff(np.concatenate([[0], standing.view(np.int8), [0]])))
    done = -1
    for a, b in zip(edges[::2], edges[1::2], strict=True):
        top = int(a + np.argmax(level[a:b]))
        if top <= done:
            continue
        edge = max(level[top] - EDGE_DB, level[top] - over[top] + 3.0)
        first, last = top, top
        while first > 0 and level[first - 1] > edge:
            first -= 1
        while last < len(level) - 1 and level[last + 1] > edge:
            last += 1
        done = last
        yield first, top, last


def _rise_s(level: Array, first: int, top: int) -> float:
    """Return how long it takes from 15 dB to 3 dB below the top."""
    up = level[first : top + 1]
    low, high = np.flatnonzero(up < level[top] - 15.0), np.flatnonzero(up >= level[top] - 3.0)
    return float((high[0] - (low[-1] if len(low) and low[-1] < high[0] else 0)) * HOP_S)
