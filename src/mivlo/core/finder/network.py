"""Joins the cues of a stretch into odds: a small network over the axis of bands, fitted by bench/finder/fit.py."""

from dataclasses import dataclass
from functools import lru_cache
from importlib.resources import as_file, files

import numpy as np

from mivlo.core.finder.band_cues import BandCues
from mivlo.core.units import Floats

__all__ = ["LAYERS", "OUTPUTS", "WIDTH", "Odds", "odds", "scaled"]

OUTPUTS = ("line", "loud-only", "hump", "harsh")
WIDTH = 48
# Where each layer looks, in bands of 20 cents: beside, at octaves and twelfths, and over two octaves either way.
LAYERS = (
    (-2, -1, 0, 1, 2), (-120, -95, -60, 0, 60, 95, 120), tuple(range(-8, 9, 2)), tuple(range(-32, 33, 8)),
    tuple(range(-80, 81, 20)),
)  # fmt: skip
FURTHEST = 6.0  # of a scaled cue


@dataclass(frozen=True, slots=True)
class Odds:
    """Probabilities (bands,) from 0 to 1: a line here, the fault here is loud-only, a hump, wide harshness."""

    line: Floats
    loud_only: Floats
    hump: Floats
    harsh: Floats


@lru_cache(maxsize=1)
def _weights() -> dict[str, Floats]:
    with as_file(files("mivlo.core.finder") / "weights.npz") as path, np.load(path) as stored:
        return {
            name: stored[name].astype(np.float32) if stored[name].dtype.kind == "f" else stored[name] for name in stored
        }


def scaled(values: Floats, mean: Floats, spread: Floats) -> Floats:
    """Return (cues, bands) in units of their usual spread."""
    return np.clip((values - mean[:, None]) / spread[:, None], -FURTHEST, FURTHEST)


def odds(cues: BandCues) -> Odds:
    """Return what the cues amount to at every band.

    Raises
    ------
    Nothing.

    Source: ours; weights fitted to planted faults by bench/finder/fit.py, the mean of several fits
    """
    weights = _weights()
    x = scaled(cues.values, weights["mean"], weights["spread"]).astype(np.float32)
    fits = [_forward(x, weights, f"{index}.") for index in range(int(weights["fits"]))]
    slope, offset = weights["calibration"].T
    log_odds = slope[:, None] * np.mean(fits, axis=0) + offset[:, None]
    line, loud_only, hump, harsh = 1.0 / (1.0 + np.exp(-np.clip(log_odds, -30.0, 30.0)))
    return Odds(line, loud_only, hump, harsh)


def _forward(x: Floats, weights: dict[str, Floats], prefix: str) -> Floats:
    h = np.maximum(weights[f"{prefix}first.weight"][:, :, 0] @ x + weights[f"{prefix}first.bias"][:, None], 0.0)
    for number, taps in enumerate(LAYERS):
        seen = np.concatenate([_shifted(h, tap) for tap in taps])
        layer = weights[f"{prefix}layers.{number}.weight"] @ seen + weights[f"{prefix}layers.{number}.bias"][:, None]
        h = h + np.maximum(layer, 0.0)
    return np.asarray(weights[f"{prefix}last.weight"][:, :, 0] @ h + weights[f"{prefix}last.bias"][:, None])


def _shifted(h: Floats, tap: int) -> Floats:
    """Return what stands `tap` bands higher, zero beyond the ends."""
    out = np.zeros_like(h)
    if tap >= 0:
        out[:, : h.shape[1] - tap] = h[:, tap:]
    else:
        out[:, -tap:] = h[:, :tap]
    return out
