"""How much a fault of one track is heard in the mix: the whole sound with it and without it, at the ear's places."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from scipy.fft import rfft

from mivlo.core.engine.source import Source
from mivlo.core.ensemble.erb_map import HOP_FRAMES, PER_FRAME, RESOLUTIONS, bin_weights, frame_s
from mivlo.core.ensemble.hearing import CAMS, E_THRESHOLD, STEP_CAMS, cams_to_hz, specific_loudness
from mivlo.core.ensemble.listening import MixedTrack, ear_gains, ear_powers, spread_at
from mivlo.core.filters import analog
from mivlo.core.spectra.windows import halvings_of, windows
from mivlo.core.units import Array, Floats

__all__ = ["Fault", "FaultPowers", "HeardAs", "InMix", "change_in_mix", "fault_powers", "heard_as", "in_mix"]

HeardAs = Literal["plain", "faint", "lost"]
PLAIN_DB, FAINT_DB = 1.5, 0.5
MOST_FRAMES = 96  # looked at: spread over all moments of a fault
SOUNDING_DB = 40.0  # below its loud moments, a track does not sound where the fault is
DEPTHS = np.array([0.0, 0.1, 0.2, 0.35, 0.5, 0.7, 0.85, 1.0])  # of the fault's own gain, between which is interpolated
PLAINEST = 0.1  # of the moments
LOOP_S = 3.0
NEAR_HOPS = 64  # what lies between is read as well
LEAST_SHARE = 1e-3  # of a bin's power that a bell takes: less is not counted
_BESIDE_HZ = cams_to_hz(CAMS[:, None] + STEP_CAMS * np.linspace(-0.4, 0.4, 5))
_BESIDE_SHARES = (1.0 - np.abs(np.linspace(-0.4, 0.4, 5))) / np.sum(1.0 - np.abs(np.linspace(-0.4, 0.4, 5)))


@dataclass(frozen=True, slots=True)
class Fault:
    """What stands out of a track: bells (hz, gain_db, q) and when it is there, seconds; no times: always."""

    bells: tuple[tuple[float, float, float], ...]
    times: tuple[tuple[float, float], ...] = ()


@dataclass(frozen=True, slots=True)
class FaultPowers:
    """What taking a fault out takes of its track's map: `removed` (depths, channels, frames, bands) at chosen frames of
    the map."""

    fault: Fault
    frames: np.ndarray
    removed: Floats


@dataclass(frozen=True, slots=True)
class InMix:
    """As defined: `in_mix_db`, `change_db`, the number of the track that covers it, and where it is plainest."""

    in_mix_db: float
    change_db: float
    covered_by: int | None
    plainest_s: tuple[float, float] | None

    @property
    def heard(self) -> HeardAs:
        """Return the word for it."""
        return heard_as(self.change_db)


_Resolution = tuple[int, int, float]
NOT_HEARD = InMix(0.0, 0.0, None, None)


def heard_as(change_db: float) -> HeardAs:
    """Return the word for how much the mix changes without a fault. Raises nothing. Source: our definition."""
    return "plain" if change_db >= PLAIN_DB else "faint" if change_db >= FAINT_DB else "lost"


def _power(bells: Sequence[tuple[float, float, float]], hz: Array, depth: float) -> Array:
    """Return what is left of a power at frequencies when so much of the bells is taken out."""
    left = np.ones_like(hz)
    for at, gain_db, q in bells:
        left = left * np.abs(analog.response((analog.bell(at, -depth * gain_db, q),), hz)) ** 2
    return left


def fault_powers(
    source: Source, faults: Sequence[Fault], own: MixedTrack, *, start: int, sample_rate_hz: float
) -> list[FaultPowers]:  # fmt: skip
    """Return what each fault adds to the map of its track.

    Parameters
    ----------
    source : what the map was made of; its first frame is `start` frames after the map's

    Raises
    ------
    Nothing.

    Source: the powers of the bell at each bin of the map's transform
    """
    halvings = halvings_of(sample_rate_hz)
    rate = sample_rate_hz / 2.0**halvings
    weights = bin_weights(rate)
    frames = [_moments(fault, own, sample_rate_hz) for fault in faults]
    n_channels, n_bands = own.heard.power.shape[0], len(CAMS)
    found = [np.zeros((len(DEPTHS), n_channels, len(one), n_bands), dtype=np.float32) for one in frames]
    resolutions = list(zip(weights, RESOLUTIONS, strict=True))
    ways = [
        [_taken(fault, weight, size, rate / 2.0**halved) for weight, (halved, size, _) in resolutions]
        for fault in faults
    ]
    touching = [
        [
            (way, _hops_of(chosen), into)
            for by_resolution, chosen, into in zip(ways, frames, found, strict=True)
            if len(chosen) and (way := by_resolution[at]) is not None
        ]
        for at in range(len(RESOLUTIONS))
    ]
    hops = {
        resolution: np.unique(np.concatenate([needed for _, needed, _ in of_resolution]))
        for resolution, of_resolution in zip(RESOLUTIONS, touching, strict=True)
        if of_resolution
    }
    spectra = _spectra(_Placed(source, start), hops, halvings)
    for resolution, of_resolution in zip(RESOLUTIONS, touching, strict=True):
        for (bins, taken), needed, into in of_resolution:
            rows = np.searchsorted(hops[resolution], needed).reshape(-1, PER_FRAME)
            for channel, power in enumerate(spectra[resolution]):
                mean = power[:, bins][rows].mean(axis=1)
                into[:, channel] += np.matmul(mean, taken)
    return [FaultPowers(*one) for one in zip(faults, frames, found, strict=True)]


@dataclass(frozen=True, slots=True)
class _Placed:
    """A source that begins at a frame."""

    source: Source
    start: int

    @property
    def n_channels(self) -> int:
        return self.source.n_channels

    @property
    def n_frames(self) -> int:
        return self.start + self.source.n_frames

    def read(self, start: int, n_frames: int) -> Array:
        return self.source.read(start - self.start, n_frames)


def _moments(fault: Fault, own: MixedTrack, sample_rate_hz: float) -> np.ndarray:
    """Return frames of a map in which a fault is there and its track sounds around it, so many that all are told."""
    power = own.heard.power.sum(axis=0)
    bands = slice(*np.searchsorted(cams_to_hz(CAMS), [0.8 * fault.bells[0][0], 1.25 * fault.bells[-1][0]]))
    around = power[:, bands].sum(axis=1) if bands.stop > bands.start else power.sum(axis=1)
    sounding = around > np.percentile(around, 95.0) * 10.0 ** (-SOUNDING_DB / 10.0)
    middles_s = (np.arange(len(power)) + 0.5) * frame_s(sample_rate_hz)
    if fault.times:
        inside = np.searchsorted(np.ravel(fault.times), middles_s) % 2 == 1
        sounding = sounding & inside if (sounding & inside).any() else inside
    chosen = np.flatnonzero(sounding)
    some = np.unique(np.linspace(0, len(chosen) - 1, min(len(chosen), MOST_FRAMES)).astype(int))
    return np.asarray(chosen[some])


def _hops_of(frames: np.ndarray) -> np.ndarray:
    """Return the hops that make some frames of a map."""
    return np.asarray((frames[:, None] * PER_FRAME + np.arange(PER_FRAME)).ravel())


def _stretches(hops: np.ndarray) -> list[np.ndarray]:
    """Return hops that are near to one another together."""
    return np.split(hops, np.flatnonzero(np.diff(hops) > NEAR_HOPS) + 1) if len(hops) else []


def _spectra(source: Source, hops: dict[_Resolution, np.ndarray], halvings: int) -> dict[_Resolution, list[Floats]]:
    """Return, for each resolution and channel, (hops, bins) powers of those hops of the map that it is wanted for."""
    found: dict[_Resolution, list[list[Floats]]] = {one: [[] for _ in range(source.n_channels)] for one in hops}
    hop = HOP_FRAMES << halvings
    for some in _stretches(np.unique(np.concatenate([np.zeros(0, dtype=int), *hops.values()]))):
        first, last = int(some[0]), int(some[-1])
        chunks = windows(
            source, start=first * hop, end=last * hop, halvings=halvings, hop=HOP_FRAMES, resolutions=tuple(hops),
            alone=False,
        )  # fmt: skip
        for chunk in chunks:
            behind = min(first + len(chunk[0][0]), last + 1)
            for by_channel, (resolution, into) in zip(chunk, found.items(), strict=True):
                _, size, _ = resolution
                window = np.hanning(size + 1)[:size].astype(np.float32)
                here = hops[resolution][slice(*np.searchsorted(hops[resolution], [first, behind]))] - first
                for frames, rows in zip(by_channel, into, strict=True):
                    rows.append(np.abs(rfft(frames[here] * window, axis=1)) ** 2)
            first = behind
    return {one: [np.concatenate(rows) for rows in into] for one, into in found.items()}


def _taken(
    fault: Fault, weight: tuple[int, np.ndarray, Floats], size: int, rate_hz: float
) -> tuple[slice, Floats] | None:  # fmt: skip
    """Return the bins of a resolution that a fault touches, and (depths, bins, bands) what of their power goes from
    which band; None where it touches none."""
    first, lower, shares = weight
    hz = (first + np.arange(len(lower))) * rate_hz / size
    gone = np.stack([1.0 - _power(fault.bells, hz, float(depth)) for depth in DEPTHS])
    touched = np.flatnonzero(np.abs(gone).max(axis=0) > LEAST_SHARE)
    if not len(touched):
        return None
    part = slice(int(touched[0]), int(touched[-1]) + 1)
    taken = np.zeros((len(DEPTHS), part.stop - part.start, len(CAMS)), dtype=np.float32)
    for band, share in zip((lower[part], lower[part] + 1), shares[part].T, strict=True):
        rows = np.flatnonzero((band >= 0) & (band < len(CAMS)))
        taken[:, rows, band[rows]] = gone[:, part][:, rows] * share[rows]
    return slice(first + part.start, first + part.stop), taken


def in_mix(
    tracks: Sequence[MixedTrack], own: int, powers: FaultPowers, *, full_scale_db: float, hop_s: float
) -> InMix:  # fmt: skip
    """Return how much of a fault of one track is heard among all.

    Parameters
    ----------
    tracks : all that sound, moves included; `own` is the number of the one with the fault
    full_scale_db : level in dB SPL of a mean square of 1 at one ear
    hop_s : of the maps

    Raises
    ------
    Nothing.

    Source: our definition; excitation and loudness as `hear`, spread by the level of the sum before the change. What
    lies beside the fault in the same band of another track is taken to be spread evenly there.
    """
    frames, removed = powers.frames, powers.removed
    if not len(frames):
        return NOT_HEARD
    scale = 10.0 ** (full_scale_db / 10.0)
    ears = ear_powers(tracks, frames).astype(np.float64) * scale
    gains = ear_gains(tracks[own])
    others = ears.sum(axis=1) - ears[:, own]
    falls, without, laid_on, spreads = [], [], [], []
    left = np.stack([_power(powers.fault.bells, _BESIDE_HZ, float(depth)) @ _BESIDE_SHARES for depth in DEPTHS])
    for ear in range(len(ears)):
        gone = removed[:, min(ear, removed.shape[1] - 1)] * (gains[ear] * scale)
        gone = np.minimum(gone, ears[ear, own])
        total = ears[ear].sum(axis=0)
        spread = spread_at(total.astype(np.float32))
        excited = _spread(total, spread)
        less = _spread(gone, spread)
        also = _spread(others[ear] * (1.0 - left[:, None]), spread)
        after = np.maximum(excited - less[-1], 0.0)
        fall = 10.0 * np.log10(np.maximum(excited, E_THRESHOLD) / np.maximum(after, E_THRESHOLD))
        falls.append(fall)
        without.append(specific_loudness(after).sum(axis=1).mean())
        laid_on.append(specific_loudness(np.maximum(excited - less - also, 0.0)).sum(axis=2).mean(axis=1))
        spreads.append(spread)
    fall = np.max(falls, axis=0)
    by_frame = fall.max(axis=1)
    plainest = np.argsort(-by_frame)[: max(round(PLAINEST * len(frames)), 1)]
    change_db = float(by_frame[plainest].mean())
    if change_db <= 0.0:
        return NOT_HEARD
    place = np.argmax(fall[plainest], axis=1)
    # What each track excites just there: (ears, tracks, frames, bands) through (ears, frames, bands) of that place.
    reached = np.stack([spread[plainest, :, place] for spread in spreads])
    there = np.einsum("etfb,efb->t", ears[:, :, plainest], reached)
    there[own] = 0.0
    covering = int(np.argmax(there)) if there.any() else None
    wanted, by_depth = float(np.sum(without)), np.sum(laid_on, axis=0)
    depths = DEPTHS * powers.fault.bells[0][1]
    in_mix_db = float(np.interp(-wanted, -by_depth, depths))
    return InMix(in_mix_db, change_db, covering, _plainest(frames, by_frame, hop_s))


def _spread(power: Array, spread: Floats) -> Array:
    """Return (..., frames, bands): what (..., frames, bands) of power excite."""
    rows = np.moveaxis(power.reshape(-1, *power.shape[-2:]), 0, 1).astype(np.float32)
    return np.asarray(np.moveaxis(np.matmul(rows, spread), 1, 0).reshape(power.shape), dtype=np.float64)


def _plainest(frames: np.ndarray, changes: Array, hop_s: float) -> tuple[float, float]:
    """Return the few seconds in which a change is greatest."""
    middles_s = (frames + 0.5) * hop_s
    best = max(middles_s, key=lambda at: changes[np.abs(middles_s - at) <= LOOP_S / 2.0].sum())
    first = max(float(best) - LOOP_S / 2.0, 0.0)
    return first, first + LOOP_S


def change_in_mix(
    tracks: Sequence[MixedTrack], own: int, without: MixedTrack, *, full_scale_db: float
) -> tuple[float, float]:  # fmt: skip
    """Return how much the mix changes by what one track is without something: the greatest change of excitation in any
    band, at the plainest tenth of the moments, in dB, and the change of loudness in per cent.

    Raises
    ------
    Nothing.

    Source: as `in_mix`
    """
    n_frames = max(track.heard.power.shape[1] for track in tracks)
    frames = np.unique(np.linspace(0, n_frames - 1, min(n_frames, 2 * MOST_FRAMES)).astype(int))
    scale = 10.0 ** (full_scale_db / 10.0)
    other_way = [without if number == own else track for number, track in enumerate(tracks)]
    now, then = (ear_powers(one, frames).astype(np.float64).sum(axis=1) * scale for one in (tracks, other_way))
    changes, loudness = [], []
    for total, before in zip(now, then, strict=False):
        spread = spread_at(before.astype(np.float32))
        excited = [np.maximum(_spread(one, spread), E_THRESHOLD) for one in (total, before)]
        changes.append(np.abs(10.0 * np.log10(excited[0] / excited[1])))
        loudness.append([specific_loudness(one).sum() for one in excited])
    by_frame = np.sort(np.max(changes, axis=0).max(axis=1))
    heard, unheard = np.sum(loudness, axis=0)
    plainest = by_frame[-max(round(PLAINEST * len(frames)), 1) :]
    return float(plainest.mean()), float(100.0 * (heard / max(unheard, 1e-9) - 1.0))
