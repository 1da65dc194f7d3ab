"""How every place on the axis behaves over a stretch: many weak cues, none of which decides alone.

A boost shows on every partial that comes near it; a mode that rings goes on when the notes stop, keeps its frequency
while they move, and builds up later than they do. A note's partial does neither: it starts and stops with its
fellows an octave or a twelfth away, and stands on the overtone series of what is played. A hump is there at all
times; harshness grows faster than the track.
"""

from dataclasses import dataclass

import numpy as np
from scipy.ndimage import maximum_filter1d, median_filter, minimum_filter1d, uniform_filter1d

from mivlo.core import kernels
from mivlo.core.finder.level_map import BANDS_PER_OCTAVE, LevelMap, active_frames
from mivlo.core.units import Floats

__all__ = ["BandCues", "band_cues"]

REACH, GAP = 30, 6  # bands: the near outline is the half octave either side, the candidate's own tenth left out
PEAK_REACH, PEAK_GAP = 40, 4
FAR_PEAK_REACH = 78  # so that the fellows of a low partial, an octave away, are among its surroundings
THIRD_OCTAVE = BANDS_PER_OCTAVE // 3 + 1
PLAYING_DB = 35.0
LAG_S = 0.064  # over which decay and build-up are read
FALLING_DB = 2.0  # of the outline within the lag
PROUD_DB = 6.0
GAP_DB = 10.0  # below its usual loud level, an outline is in a gap
FEWEST_FRAMES = 8
OVERTONES = 8
SOUNDING_DB = 24.0  # below its usual loud level, a place no longer sounds
BODY_REACH_DB, BODY_WIDE, BODY_FINE, BODY_TURNS = 60.0, 21, 3, 4  # widths in bands: a third of an octave, and a line
MOST_OVERTONES, OVERTONE_REACH = 24, 2.0  # bands: 40 cents, for stiff strings and vibrato
RELATIVES = {
    "octave below": -60,
    "twelfth below": -95,
    "two octaves below": -120,
    "octave above": 60,
    "twelfth above": 95,
}


@dataclass(frozen=True, slots=True)
class BandCues:
    """`values` (cues, bands) float32 with their names; `active` are the numbers of the frames that count."""

    names: tuple[str, ...]
    values: Floats
    active: np.ndarray

    def __getitem__(self, name: str) -> Floats:
        return np.asarray(self.values[self.names.index(name)])


def band_cues(levels: LevelMap) -> BandCues | None:
    """Return the cues of a stretch, or None where too little sounds.

    Raises
    ------
    Nothing.

    Source: outlines without the candidate, peak persistence, per-band decay and build-up, dependence on level, and
    co-occurrence with octaves and twelfths, as they are used in the literature on ringing, feedback and partial
    tracking; what exactly is measured is ours (docs/method.md)
    """
    active = active_frames(levels)
    if len(active) < FEWEST_FRAMES:
        return None
    x = levels.levels_db[active]
    outline = _ring_mean(x, REACH, GAP)
    proud = x - outline
    peaks = (x >= maximum_filter1d(x, 5, axis=1)) & (x - minimum_filter1d(x, 17, axis=1) > 3.0)
    cues = (
        _level_cues(x, levels.power_db[active])
        | _peak_cues(x, proud, peaks, levels.hop_s)
        | _time_cues(x, outline, proud, active, levels.hop_s)
        | _loudness_cues(x, proud, peaks, levels.power_db[active])
        | _together(proud)
    )
    explained, roots = _explained(proud, peaks)
    cues |= explained | _body_cues(x, peaks, roots, levels.power_db[active])
    hz, n_bands = levels.hz, len(levels.hz)
    cents = 1200.0 * np.log2(hz / 440.0)
    cues["log hz"] = np.log2(hz / 1_000.0)
    cues["off the notes"] = np.abs((cents + 50.0) % 100.0 - 50.0)
    cues["lines a frame"] = np.full(n_bands, float(np.mean((peaks & (proud > PROUD_DB)).sum(axis=1))))
    cues["unrest"] = np.full(n_bands, float(np.std(levels.power_db[active])))
    cues["share active"] = np.full(n_bands, len(active) / len(levels.power_db))
    return BandCues(tuple(cues), np.stack([np.asarray(cue, dtype=np.float32) for cue in cues.values()]), active)


def _ring_mean(x: Floats, reach: int, gap: int, weights: np.ndarray | None = None) -> Floats:
    """Return the mean of each (frames, bands) row around every band, the band itself and its neighbours left out."""
    counted = np.ones((1, x.shape[1]), dtype=np.float32) if weights is None else weights.astype(np.float32)
    total, count = np.empty_like(x, dtype=np.float32), np.empty_like(counted)
    kernels.ring_sums.ring_sums(x * counted, reach, gap, total)
    kernels.ring_sums.ring_sums(counted, reach, gap, count)
    return np.asarray(np.where(count > 0.5, total / np.maximum(count, 1.0), np.nan), dtype=np.float32)


def _quantiles(x: Floats, *shares: float) -> list[Floats]:
    """Return of (frames, bands) the values below which some shares of the frames lie, a (bands,) row for each share."""
    ordered = np.sort(np.ascontiguousarray(x.T), axis=1)  # each band's frames beside one another: in half the time
    return [ordered[:, min(int(share * len(x)), len(x) - 1)] for share in shares]


def _stand_out(curve: Floats) -> Floats:
    """Return a (bands,) curve less the median of its surroundings."""
    padded = np.pad(np.asarray(curve, dtype=np.float64), REACH, mode="edge")
    around = np.lib.stride_tricks.sliding_window_view(padded, 2 * REACH + 1)
    ring = np.concatenate([around[:, : REACH - GAP], around[:, REACH + GAP + 1 :]], axis=1)
    return np.asarray(curve - np.median(ring, axis=1))


def _level_cues(x: Floats, loudness: Floats) -> dict[str, Floats]:
    """Return what is there how much of the time, in lines and in thirds of an octave, and how it goes with loudness."""
    playing = loudness > np.percentile(loudness, 95.0) - PLAYING_DB
    loud = loudness >= np.percentile(loudness[playing], 70.0)
    quiet = playing & (loudness <= np.percentile(loudness[playing], 45.0))
    quiet = quiet if quiet.any() else playing
    power = np.exp(x * np.float32(np.log(10.0) / 10.0))
    thirds = 10.0 * np.log10(np.maximum(uniform_filter1d(power, THIRD_OCTAVE, axis=1), 1e-16))
    centred = ((loudness - loudness[playing].mean()) * playing).astype(np.float32)
    energy = float((centred**2).sum()) + 1e-6
    cues: dict[str, Floats] = {}
    percents = (10, 50, 90, 98)
    ordered = _quantiles(x, *(percent / 100 for percent in percents))
    curves = {f"level {percent}": level for percent, level in zip(percents, ordered, strict=True)}
    curves |= {"mean level": x.mean(axis=0), "power": 10.0 * np.log10(power.mean(axis=0) + 1e-16)}
    curves |= {"when loud": x[loud].mean(axis=0), "when quiet": x[quiet].mean(axis=0)}
    for name, curve in curves.items():
        cues[f"{name}, proud"] = _stand_out(curve)
    top = float(curves["power"].max())
    cues["below the top"] = curves["mean level"] - top
    smooth = {
        "middle": np.median(thirds, axis=0),
        "loud": thirds[loud].mean(axis=0),
        "quiet": thirds[quiet].mean(axis=0),
    }
    for name, curve in smooth.items():
        cues[f"third octaves, {name}"] = curve - top
        cues[f"third octaves, {name}, proud"] = curve - median_filter(curve, 2 * BANDS_PER_OCTAVE + 1, mode="nearest")
    for name, levels in (("line", x), ("third octave", thirds)):
        slope = (levels * centred[:, None]).sum(axis=0) / energy
        step = levels[loud].mean(axis=0) - levels[quiet].mean(axis=0)
        cues |= {f"{name} on loudness": slope, f"{name} loud less quiet": step}
        cues |= {f"{name} loud less quiet, proud": _stand_out(step), f"{name} spread": levels.std(axis=0)}
    return cues


def _peak_cues(x: Floats, proud: Floats, peaks: np.ndarray, hop_s: float) -> dict[str, Floats]:
    """Return how high peaks stand among other peaks, how often they are here, and for how long at a time."""
    n_peaks = peaks.sum(axis=0)
    near = np.convolve(n_peaks, np.ones(3), "same")
    found: dict[str, Floats] = {}
    for name, reach in (("near", PEAK_REACH), ("far", FAR_PEAK_REACH)):
        envelope = _ring_mean(x, reach, PEAK_GAP, peaks)
        over = np.where(peaks & np.isfinite(envelope), x - envelope, 0.0).sum(axis=0)
        found[f"peaks over {name} peaks"] = np.convolve(over, np.ones(3), "same") / (near + 0.02 * len(x) + 1.0)
    proud_peaks = peaks & (proud > PROUD_DB)
    here = maximum_filter1d(proud_peaks, 3, axis=1)
    starts = (here[1:] & ~here[:-1]).sum(axis=0)
    around = np.convolve(n_peaks, np.ones(17), "same")
    return found | {
        "share proud": here.mean(axis=0),
        "peak share": near / len(x),
        "length of stay": here.sum(axis=0) * hop_s / (starts + 1.0),
        "stays a second": starts / (len(x) * hop_s),
        "peaks here of peaks around": near / (around + 0.01 * len(x) + 1.0),
    }


def _time_cues(x: Floats, outline: Floats, proud: Floats, active: np.ndarray, hop_s: float) -> dict[str, Floats]:
    """Return how a place falls and rises beside its surroundings, and how it stands in their gaps."""
    lag = max(1, round(LAG_S / hop_s))
    together = np.flatnonzero(active[lag:] - active[:-lag] == lag)  # no pause within the lag
    change, around = (v[lag:][together] - v[:-lag][together] for v in (x, outline))
    falling, rising = around < -FALLING_DB, around > FALLING_DB
    slower, later = np.clip(change - around, -20, 20), np.clip(around - change, -20, 20)
    under = outline < _quantiles(outline, 0.75)[0] - GAP_DB
    low, middle, high = _quantiles(proud, 0.1, 0.5, 0.9)
    return {
        "slower to fall": (slower * falling).sum(axis=0) / (falling.sum(axis=0) + 3.0),
        "later to rise": (later * rising).sum(axis=0) / (rising.sum(axis=0) + 3.0),
        "fall": (change * falling).sum(axis=0) / (falling.sum(axis=0) + 3.0),
        "share falling": falling.sum(axis=0) / len(x),
        "in gaps": (proud * under).sum(axis=0) / (under.sum(axis=0) + 0.02 * len(x) + 1.0),
        "proud in gaps": (under & (proud > PROUD_DB)).mean(axis=0),
        "proud 10": low, "proud 50": middle, "proud 90": high, "proud, mean": proud.mean(axis=0),
        "proud, spread": proud.std(axis=0),
    }  # fmt: skip


def _together(proud: Floats) -> dict[str, Floats]:
    """Return how much each place stands out just when its relatives do (correlation over time)."""
    centred = proud - proud.mean(axis=0)
    centred /= np.sqrt((centred**2).sum(axis=0)) + 1e-6
    found = {}
    for name, offset in (RELATIVES | {"beside, low": -8, "beside, high": 8}).items():
        best = np.full(proud.shape[1], -1.0)
        for d in (-1, 0, 1) if abs(offset) > 8 else (0,):
            moved = offset + d
            a, b = max(-moved, 0), proud.shape[1] - max(moved, 0)
            both = np.einsum("ij,ij->j", centred[:, a:b], centred[:, a + moved : b + moved])
            best[a:b] = np.maximum(best[a:b], both)
        found[f"together with {name}"] = np.where(best <= -1.0, 0.0, best)
    return found


def _explained(proud: Floats, peaks: np.ndarray) -> tuple[dict[str, Floats], np.ndarray]:
    """Return by how much each place is explained as an overtone of something that sounds, itself left out; and the
    roots.

    The roots are the bands (frames,) of the strongest overtone series.

    Source: sub-harmonic summation, D. J. Hermes, JASA 83(1), 1988 (from memory), read backwards
    """
    lines = np.where(peaks, np.clip(proud, 0.0, 30.0), np.float32(0.0))
    lines = maximum_filter1d(lines, 3, axis=1)
    offsets = np.round(BANDS_PER_OCTAVE * np.log2(np.arange(1, OVERTONES + 1))).astype(int)
    weights = np.asarray([0.86**h for h in range(OVERTONES)], dtype=np.float32)
    salience, best = np.empty_like(lines), np.empty_like(lines)
    kernels.overtone_series.sum_series(lines, offsets, weights, salience, best)
    roots = np.argmax(salience, axis=1)
    top = salience.max(axis=1, keepdims=True) + np.float32(1.0)
    sounding = lines > 3.0
    count = sounding.sum(axis=0) + 1.0
    best /= top
    return {
        "explained": (best * sounding).sum(axis=0) / count, "of the best": (lines / top).mean(axis=0),
        "unexplained share": (sounding & (best < 0.35)).mean(axis=0),
    }, roots  # fmt: skip


def _body_cues(x: Floats, peaks: np.ndarray, roots: np.ndarray, loudness: Floats) -> dict[str, Floats]:
    """Return what the place alone does to the lines that pass it, whichever overtone each is: widely, finely, and
    when loud.

    Each line's level below its frame's loudness is taken for the sum of what its number in the overtone series gives
    and what its place gives; as the notes move, the two come apart.

    Source: source and filter told apart as in the literature on instrument bodies (additive in dB, alternating means);
    what exactly is measured is ours
    """
    frames, bands = np.nonzero(peaks)
    level = x[frames, bands] - loudness[frames]
    heard = level > -BODY_REACH_DB
    frames, bands, level = frames[heard], bands[heard], level[heard].astype(np.float64)
    number = _overtone_numbers(bands, roots[frames])
    loud = loudness[frames] >= np.median(loudness)
    n_bands, few = x.shape[1], 0.02 * len(x) + 1.0
    every = np.ones(len(level), dtype=bool)
    wide, density = _body(number, bands, level, every, n_bands, few, BODY_WIDE)
    fine, _ = _body(number, bands, level, every, n_bands, few, BODY_FINE)
    when_loud, _ = _body(number, bands, level, loud, n_bands, few, BODY_FINE)
    when_quiet, _ = _body(number, bands, level, ~loud, n_bands, few, BODY_FINE)
    return {
        "body": wide - median_filter(wide, 2 * BANDS_PER_OCTAVE + 1, mode="nearest"),
        "body, near": wide - median_filter(wide, BANDS_PER_OCTAVE + 1, mode="nearest"),
        "body, fine": fine - wide, "body, loud less quiet": _stand_out(when_loud - when_quiet),
        "body, density": np.log10(density + 0.01),
    }  # fmt: skip


def _overtone_numbers(bands: np.ndarray, roots: np.ndarray) -> np.ndarray:
    """Return which overtone of its root each line is, 1 for the root itself; 0 for those that are none."""
    ratio = 2.0 ** ((bands - roots) / BANDS_PER_OCTAVE)
    nearest = np.maximum(np.round(ratio), 1.0)
    fits = (np.abs(BANDS_PER_OCTAVE * np.log2(ratio / nearest)) <= OVERTONE_REACH) & (nearest <= MOST_OVERTONES)
    return np.where(fits, nearest, 0.0).astype(int)


def _body(
    number: np.ndarray, bands: np.ndarray, level: Floats, chosen: np.ndarray, n_bands: int, few: float, width: int
) -> tuple[Floats, Floats]:
    """Return what each place gives (bands,) in dB, towards 0 where fewer than a few lines tell, and how many there
    do."""
    number, bands, level = number[chosen], bands[chosen], level[chosen]
    counts = np.bincount(number, minlength=MOST_OVERTONES + 1) + 1.0
    density = uniform_filter1d(np.bincount(bands, minlength=n_bands).astype(float), width, mode="constant") * width
    body = np.zeros(n_bands)
    for _ in range(BODY_TURNS):
        of_number = np.bincount(number, level - body[bands], MOST_OVERTONES + 1) / counts
        total = np.bincount(bands, level - of_number[number], n_bands)
        body = uniform_filter1d(total, width, mode="constant") * width / (density + few)
    return body, density / max(float(density.max()), 1.0)


def _loudness_cues(x: Floats, proud: Floats, peaks: np.ndarray, loudness: Floats) -> dict[str, Floats]:
    """Return how a place stands out in each quarter of the loudness, counting only moments in which it sounds itself.

    Else a place that merely sounds on while all else falls would seem to change with the loudness.
    """
    playing = np.flatnonzero(loudness > np.percentile(loudness, 95.0) - PLAYING_DB)
    ordered = playing[np.argsort(loudness[playing], kind="stable")]
    (usual,) = _quantiles(x, 0.9)
    sounding = x > usual - SOUNDING_DB
    mean = (proud * sounding).sum(axis=0) / (sounding.sum(axis=0) + 1.0)
    few = 0.02 * len(x) + 1.0
    quarters, shares, heights = [], [], []
    for chosen in np.array_split(ordered, 4):
        heard = sounding[chosen]
        quarters.append(((proud[chosen] * heard).sum(axis=0) + few * mean) / (heard.sum(axis=0) + few) - mean)
        shares.append(heard.sum(axis=0) / max(len(chosen), 1))  # of a click, a quarter may hold no frame
    for chosen in np.array_split(ordered, 2):
        n_peaks = np.convolve(peaks[chosen].sum(axis=0), np.ones(3), "same")
        over = np.convolve(np.where(peaks[chosen], proud[chosen], 0.0).sum(axis=0), np.ones(3), "same")
        heights.append((over, n_peaks))
    (quiet, n_quiet), (loud, n_loud) = heights
    usual_height = (quiet + loud) / (n_quiet + n_loud + 1.0)
    cues = {f"proud, quarter {number}": quarter for number, quarter in enumerate(quarters, 1)}
    return cues | {
        "quarters 4 less 1, proud": _stand_out(quarters[3] - quarters[0]),
        "quarters 4 less 2, proud": _stand_out(quarters[3] - quarters[1]),
        "sounding, quarter 1": shares[0],
        "sounding, quarter 4": shares[3],
        "peaks, loud less quiet": (loud + few * usual_height) / (n_loud + few)
        - (quiet + few * usual_height) / (n_quiet + few),
        "peak share, loud less quiet": (n_loud - n_quiet) / (0.5 * len(x)),
    }
