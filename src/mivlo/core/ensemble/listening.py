"""All tracks of a mix heard at once: each one's loudness alone, what is kept of it among the others, and what it
excites."""

from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np

from mivlo.core import kernels
from mivlo.core.engine.strip import pan_gains
from mivlo.core.ensemble.erb_map import ErbMap
from mivlo.core.ensemble.hearing import (
    ALPHA,
    CENTRES_HZ,
    E_THRESHOLD,
    LOW_GAIN,
    MASKING_K,
    OFFSET_A,
    SONE_SCALE,
    STEP_CAMS,
    TRANSFER_DB,
    spread_tables,
)
from mivlo.core.k_weighting import k_weighting_power, power_to_lufs
from mivlo.core.units import Array, Floats

__all__ = [
    "LISTENING_DB_SPL",
    "Heard",
    "MixedTrack",
    "ear_gains",
    "ear_powers",
    "full_scale_db_spl",
    "hear",
    "hear_powers",
    "sampled",
    "spread_at",
]

LISTENING_DB_SPL = 75.0  # of the mix's integrated loudness (definitions)
UNKNOWN_LUFS = -23.0  # of what is too short or too quiet to be measured
BLOCK_FRAMES = 9  # of the map: the 400 ms of BS.1770
ABSOLUTE_GATE_LUFS, RELATIVE_GATE_LU = -70.0, -10.0
SOUNDING_SHARE, SOUNDING_SONES = 0.05, 0.02  # of a track's loud moments, and at all: below, it does not play
UNHEARD = 0.1  # of excitation: 10 dB below 0 dB SPL, over 13 dB below any threshold
MOST_MOMENTS = 200_000  # of all tracks, 300 bytes in each of seven arrays: 8 tracks of 18 minutes, 64 of 2
PART_FRAMES = 600  # shared out to the threads


@dataclass(frozen=True, slots=True)
class MixedTrack:
    """A track as it stands in the mix: what reaches the ear of it, its fader and its pan."""

    heard: ErbMap
    gain_db: float = 0.0
    pan: float = 0.0


@dataclass(frozen=True, slots=True)
class Heard:
    """`loudness` alone and `kept` among the others, sones per band, and `excitation` (power): (tracks, frames, bands)
    float32.

    `total` (frames, bands) is the excitation of all; `sounding` (tracks, frames) tells when each plays.
    """

    loudness: Floats
    kept: Floats
    excitation: Floats
    total: Floats
    sounding: np.ndarray
    start_s: float
    hop_s: float
    n_ears: int

    @property
    def times_s(self) -> Array:
        """Return the (frames,) starts of the frames."""
        return np.asarray(self.start_s + self.hop_s * np.arange(self.loudness.shape[1]), dtype=np.float64)


@lru_cache(maxsize=1)
def _tables() -> tuple[Floats, np.ndarray]:
    """Return the tables of spread, made once, and how far each reaches before it falls under what can be heard."""
    spread = spread_tables()
    levels = np.arange(len(spread))[:, None, None]
    heard = spread * 10.0 ** (levels / 10.0) > UNHEARD
    first = heard.argmax(axis=2)
    last = heard.shape[2] - heard[:, :, ::-1].argmax(axis=2)
    return spread, np.stack([first, np.where(heard.any(axis=2), last, first)], axis=2)


def full_scale_db_spl(tracks: Sequence[MixedTrack], *, listening_db_spl: float = LISTENING_DB_SPL) -> float:
    """Return the level in dB SPL of a mean square of 1 at one ear, where the mix is listened to as loudly as stated.

    Source: ITU-R BS.1770-4 gating on the powers of the tracks, taken to be unrelated, with the K curve at each band
    """
    weights = k_weighting_power(np.minimum(CENTRES_HZ, 20_000.0), 48_000.0) / 10.0 ** (TRANSFER_DB / 10.0)
    parts = (ear_powers(tracks, frames) for frames in _parts(tracks))
    power = np.concatenate([np.sum(ears, axis=(0, 1)) @ weights * (2.0 / len(ears)) for ears in parts])
    if len(power) < BLOCK_FRAMES:
        return listening_db_spl - UNKNOWN_LUFS + 3.01
    blocks = np.convolve(power, np.ones(BLOCK_FRAMES) / BLOCK_FRAMES, "valid")[:: BLOCK_FRAMES // 4]
    level = power_to_lufs(np.maximum(blocks, 1e-12))
    loud = blocks[level > ABSOLUTE_GATE_LUFS]
    if not len(loud):
        return listening_db_spl - UNKNOWN_LUFS + 3.01
    gate = float(power_to_lufs(loud.mean())) + RELATIVE_GATE_LU
    lufs = float(power_to_lufs(loud[power_to_lufs(loud) > gate].mean()))
    return listening_db_spl - lufs + 3.01  # a sound in both ears alike: each has half of what is summed


def ear_powers(tracks: Sequence[MixedTrack], frames: np.ndarray) -> Floats:
    """Return (ears, tracks, frames, bands), re full scale, of chosen frames in their order: one ear where both hear
    the same. Raises nothing; source: ours."""
    centred = all(len(track.heard.power) == 1 and track.pan == 0.0 for track in tracks)
    out = np.zeros((1 if centred else 2, len(tracks), len(frames), len(CENTRES_HZ)), dtype=np.float32)
    for index, track in enumerate(tracks):
        power = track.heard.power
        there = frames[: np.searchsorted(frames, power.shape[1])]
        for ear, gain in zip(range(len(out)), ear_gains(track), strict=False):
            out[ear, index, : len(there)] = power[min(ear, len(power) - 1)][there] * np.float32(gain)
    return out


def ear_gains(track: MixedTrack) -> tuple[float, float]:
    """Return by which power what a track's map holds reaches either ear. Raises nothing. Source: ours."""
    gain = 10.0 ** (track.gain_db / 10.0)
    left, right = pan_gains(track.pan, n_channels=len(track.heard.power))
    return gain * left**2, gain * right**2


def spread_at(total: Floats) -> Floats:
    """Return (frames, bands, bands): what the power in each band excites of each place, by the levels of a sum's
    (frames, bands), 1 is 0 dB SPL. Raises nothing. Source: as `hear`."""
    spread, _ = _tables()
    around = total.copy()
    around[:, 1:] += 0.5 * total[:, :-1]
    around[:, :-1] += 0.5 * total[:, 1:]
    levels = 10.0 * np.log10(np.maximum(around, 1e-10))
    rows = np.clip((levels + 0.5).astype(np.int64), 0, len(spread) - 1)
    return np.asarray(spread[rows, np.arange(total.shape[1])])


def _parts(tracks: Sequence[MixedTrack]) -> Iterator[np.ndarray]:
    """Yield all frames of some tracks, a few hundred at once."""
    n_frames = max(track.heard.power.shape[1] for track in tracks)
    for first in range(0, n_frames, PART_FRAMES):
        yield np.arange(first, min(first + PART_FRAMES, n_frames))


def sampled(tracks: Sequence[MixedTrack]) -> list[MixedTrack]:
    """Return tracks with so many moments, evenly spread, as bound what hearing all of them together takes.

    Raises
    ------
    Nothing: what is short is returned whole.

    Source: ours
    """
    step = -(-sum(track.heard.power.shape[1] for track in tracks) // MOST_MOMENTS)
    if step <= 1:
        return list(tracks)
    return [
        replace(track, heard=ErbMap(track.heard.power[:, ::step].copy(), track.heard.start_s, step * track.heard.hop_s))
        for track in tracks
    ]


def hear(tracks: Sequence[MixedTrack], *, full_scale_db: float) -> Heard:
    """Return what is heard of every track among the others.

    Parameters
    ----------
    tracks : all maps of the same start and hop; shorter ones are silent at their ends
    full_scale_db : level in dB SPL of a mean square of 1 at one ear

    Raises
    ------
    Nothing.

    Source: partial loudness after Moore, Glasberg and Baer (1997), on powers in bands half an ERB apart; filter
    slopes of a track alone from its own level, among others from the level of the sum, so that excitations add up
    """
    scale = np.float32(10.0 ** (full_scale_db / 10.0))
    shape = (len(tracks), max(track.heard.power.shape[1] for track in tracks), len(CENTRES_HZ))
    loudness, kept, excitation = heard = tuple(np.zeros(shape, dtype=np.float32) for _ in range(3))

    def part(frames: np.ndarray) -> int:
        ears = ear_powers(tracks, frames) * scale
        for whole, found in zip(heard, hear_powers(ears), strict=True):
            whole[:, frames[0] : frames[-1] + 1] = found
        return len(ears)

    with ThreadPoolExecutor(2) as both:
        n_ears = max(both.map(part, _parts(tracks)))
    total = loudness.sum(axis=2)
    sounding = total > np.maximum(SOUNDING_SHARE * np.percentile(total, 95.0, axis=1, keepdims=True), SOUNDING_SONES)
    first = tracks[0].heard
    return Heard(loudness, kept, excitation, excitation.sum(axis=0), sounding, first.start_s, first.hop_s, n_ears)


def hear_powers(ears: Floats) -> tuple[Floats, Floats, Floats]:
    """Return loudness alone, what is kept of it, and excitation, each (tracks, frames, bands), of (ears, tracks,
    frames, bands).

    Powers are as they reach the cochlea, 1 is 0 dB SPL. Raises nothing. Source: as `hear`.
    """
    n_ears, n_tracks, n_frames, n_bands = ears.shape
    loudness, kept, excitation = (np.zeros((n_tracks, n_frames, n_bands), dtype=np.float32) for _ in range(3))
    law = np.stack([E_THRESHOLD, ALPHA, OFFSET_A, LOW_GAIN, MASKING_K])
    spread, reach = _tables()
    for power in ears:
        kernels.masking_frames.lose(np.ascontiguousarray(power), spread, reach, law, loudness, kept, excitation)
    scale = np.float32(SONE_SCALE * STEP_CAMS * (2.0 / n_ears))
    loudness *= scale
    kept *= scale
    return loudness, kept, excitation
