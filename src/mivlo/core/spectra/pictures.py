"""Spectrogram and waveform pictures for the bench, as arrays and as PNG."""

import io
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from PIL import Image
from scipy.fft import rfft

from mivlo.core.engine.source import Source
from mivlo.core.spectra.average import HIGHEST_HZ, LOWEST_HZ
from mivlo.core.spectra.windows import halved_rate
from mivlo.core.units import Array, Floats, power_to_db

__all__ = [
    "COARSEST_ZOOM", "TILE_COLUMNS", "TILE_ROWS", "Tile", "difference_png", "ink_png", "spectrogram_tile",
    "waveform_peaks", "whole_tile",
]  # fmt: skip

TILE_COLUMNS, TILE_ROWS = 512, 384
FINEST_HOP_FRAMES = 64
COARSEST_ZOOM = 14  # three hours at 48 kHz in one picture
PIECE_FRAMES, COLUMNS_AT_ONCE = 1 << 20, 64
LOWEST_DB, HIGHEST_DB = -96.0, -18.0  # paper and full ink, of a sine's level
MOST_DIFFERENCE_DB = 12.0  # is full ink in a picture of differences
HEARD_OVER_DB = 24.0  # above the paper: what is fainter is no difference that anybody hears
# Window lengths in seconds and the frequency above which each serves: pitch below, timing above.
RESOLUTIONS = ((0.17, 0.0), (0.085, 250.0), (0.043, 1_000.0), (0.011, 5_000.0))
# Below this frequency a longer window, at a lower rate, tells apart what lies a tenth of an octave apart. The lower
# of the two levels is shown: so a stroke stays as short as the shorter window has it.
LOW_HZ, LOW_S, LOW_HALVINGS = 200.0, 0.68, 4
EDGE_FRAMES = 64  # of a lower rate: as far as its filters reach
BLEND_OCTAVES = 0.5  # over which one gives way to the next, lest a seam be taken for something in the sound


@dataclass(frozen=True, slots=True)
class Tile:
    """A place in the pyramid of pictures: each zoom step doubles the hop, or halves the part of the axis.

    `time_zoom` 0 has a hop of 64 frames; `freq_zoom` 0 shows 20 Hz-20 kHz, n shows the axis in 2ⁿ parts.
    """

    time_zoom: int
    column: int
    freq_zoom: int
    row: int

    @property
    def hop_frames(self) -> int:
        """Return the frames from one column of the picture to the next."""
        return FINEST_HOP_FRAMES << self.time_zoom

    @property
    def start_frame(self) -> int:
        """Return the frame of the first column."""
        return self.column * TILE_COLUMNS * self.hop_frames

    def rows_hz(self) -> Array:
        """Return the (TILE_ROWS,) frequencies of the rows, low to high."""
        octaves = np.log2(HIGHEST_HZ / LOWEST_HZ)
        part = (self.row + (np.arange(TILE_ROWS) + 0.5) / TILE_ROWS) / (1 << self.freq_zoom)
        return np.asarray(LOWEST_HZ * 2.0 ** (octaves * part))


def whole_tile(n_frames: int) -> Tile:
    """Return the finest picture of the whole axis that holds a sound from end to end. Raises nothing. Source: ours."""
    zoom = int(np.ceil(np.log2(max(n_frames, 1) / (TILE_COLUMNS * FINEST_HOP_FRAMES))))
    return Tile(min(max(zoom, 0), COARSEST_ZOOM), 0, 0, 0)


def spectrogram_tile(source: Source, tile: Tile, *, sample_rate_hz: float) -> Array:
    """Return the (TILE_ROWS, TILE_COLUMNS) levels in dBFS of a tile, row 0 lowest.

    Raises
    ------
    Nothing: beyond the source there is silence.

    Source: short-time Fourier transform (Hann) with a window length for each part of the axis, levels interpolated;
    of two lengths the lower level, as in products of spectrograms (P. Loughlin, J. Pitton, B. Hannaford, IEEE Signal
    Processing
    Letters 1(12), 1994, from memory)
    """
    rows_hz = tile.rows_hz()
    out = np.full((TILE_ROWS, TILE_COLUMNS), -200.0)
    inside = rows_hz < 0.5 * sample_rate_hz
    out[inside] = 0.0
    per_piece = max(
        1, min(TILE_COLUMNS, PIECE_FRAMES // tile.hop_frames)
    )  # memory used again is faster than fresh memory
    for column in range(0, TILE_COLUMNS, per_piece):
        first = (tile.column * TILE_COLUMNS + column) * tile.hop_frames
        _add_columns(
            out[:, column : column + per_piece], source, first, tile.hop_frames, rows_hz, inside, sample_rate_hz
        )
    return out


def _add_columns(
    out: Array, source: Source, first: int, hop: int, rows_hz: Array, inside: np.ndarray, sample_rate_hz: float
) -> None:  # fmt: skip
    """Add the levels of the rows that are inside to some columns (rows, columns), zero before, from a frame of the
    source on."""
    n_columns = out.shape[1]
    # Single precision: its noise lies 40 dB under the palest ink, and pictures come in half the time.
    margin = (_size_of(LOW_S, sample_rate_hz / 2.0**LOW_HALVINGS) // 2 + EDGE_FRAMES) << LOW_HALVINGS
    x = source.read(first - margin, n_columns * hop + 2 * margin).astype(np.float32)
    bounds = [low for _, low in RESOLUTIONS] + [np.inf]
    for (seconds, low_hz), high_hz in zip(RESOLUTIONS, bounds[1:], strict=True):
        weights = _above(rows_hz, low_hz) * (1.0 - _above(rows_hz, high_hz))
        chosen = (weights > 0.0) & inside
        if not chosen.any():
            continue
        levels = _levels(x, margin, n_columns, hop, rows_hz[chosen], seconds, sample_rate_hz)
        if low_hz == 0.0:
            lower = x
            for _ in range(LOW_HALVINGS):
                lower = halved_rate(lower)
            at, slower_hop, rate = margin >> LOW_HALVINGS, hop >> LOW_HALVINGS, sample_rate_hz / 2.0**LOW_HALVINGS
            longer = _levels(lower, at, n_columns, slower_hop, rows_hz[chosen], LOW_S, rate)
            levels += (1.0 - _above(rows_hz[chosen], LOW_HZ))[:, None] * np.minimum(longer - levels, 0.0)
        out[chosen] += weights[chosen, None] * levels


def _size_of(seconds: float, rate: float) -> int:
    return 1 << int(np.round(np.log2(seconds * rate)))


def _levels(x: Floats, first: int, n_columns: int, hop: int, rows_hz: Array, seconds: float, rate: float) -> Array:
    """Return the levels (rows, columns) through windows of a length; the first column begins at x[:, first]."""
    size = _size_of(seconds, rate)
    power = _columns(x, first, n_columns, hop, size)
    position = rows_hz * size / rate
    low = np.minimum(position.astype(int), power.shape[0] - 2)
    part = (position - low)[:, None]
    between = power_to_db(power[low]) * (1.0 - part) + power_to_db(power[low + 1]) * part
    return np.asarray(np.maximum(between, _highest_of_row(power, rows_hz, size / rate)))


def _above(rows_hz: Array, bound_hz: float) -> Array:
    """Return 0..1: how far each row lies above a bound, running up over BLEND_OCTAVES around it."""
    if bound_hz in (0.0, np.inf):
        return np.full(len(rows_hz), float(bound_hz == 0.0))
    return np.clip(np.log2(rows_hz / bound_hz) / BLEND_OCTAVES + 0.5, 0.0, 1.0)


def _highest_of_row(power: Array, rows_hz: Array, bins_per_hz: float) -> Array:
    """Return the level of the highest bin inside each row, so that no thin line falls between two rows."""
    ratio = float(np.sqrt(rows_hz[1] / rows_hz[0]))
    low = np.ceil(rows_hz / ratio * bins_per_hz).astype(int)
    high = np.minimum(np.floor(rows_hz * ratio * bins_per_hz).astype(int), power.shape[0] - 1)
    level = power_to_db(power)
    return np.stack(
        [
            level[a : b + 1].max(axis=0) if b >= a else np.full(power.shape[1], -300.0)
            for a, b in zip(low, high, strict=True)
        ]
    )


def _columns(x: Floats, first: int, n_columns: int, hop: int, size: int) -> Array:
    """Return the (bins, columns) power of windows centred in each column; long hops take the higher of some windows."""
    window = np.hanning(size + 1)[:size].astype(np.float32)
    scale = (2.0 / np.sum(window, dtype=np.float64)) ** 2
    per_column = min(4, max(1, hop // size))
    step = hop // per_column
    x = x[:, first + step // 2 - size // 2 :]
    power = np.zeros((size // 2 + 1, n_columns))
    for channel in x:
        frames = np.lib.stride_tricks.sliding_window_view(channel, size)[::step]
        for column in range(0, n_columns, COLUMNS_AT_ONCE):
            count = min(COLUMNS_AT_ONCE, n_columns - column)
            part = frames[column * per_column : (column + count) * per_column] * window
            spectrum = rfft(part, axis=1)
            squares = spectrum.real**2 + spectrum.imag**2
            power[:, column : column + count] += squares.reshape(count, per_column, -1).max(axis=1).T
    return power * (scale / len(x))


def ink_png(level_db: Array) -> bytes:
    """Return (rows, columns) levels, lowest row first, as a PNG whose opacity is the ink."""
    ink = np.clip((level_db - LOWEST_DB) / (HIGHEST_DB - LOWEST_DB), 0.0, 1.0)
    return _png(ink**1.6, np.zeros_like(ink))  # the exponent keeps the paper clean around faint noise


def difference_png(before_db: Array, after_db: Array) -> bytes:
    """Return what lies between two (rows, columns) of levels as a PNG whose opacity is by how many dB they differ:
    black where something was taken away, white where it was added."""
    heard = np.clip((np.maximum(before_db, after_db) - LOWEST_DB) / HEARD_OVER_DB, 0.0, 1.0)
    ink = heard * np.clip(np.abs(after_db - before_db) / MOST_DIFFERENCE_DB, 0.0, 1.0)
    return _png(ink, np.where(after_db > before_db, 1.0, 0.0))


def _png(ink: Array, white: Array) -> bytes:
    lightness, opacity = (Image.fromarray(np.rint(255.0 * one[::-1]).astype(np.uint8)) for one in (white, ink))
    out = io.BytesIO()
    Image.merge("LA", (lightness, opacity)).save(out, "PNG", compress_level=3)
    return out.getvalue()


def waveform_peaks(source: Source, *, start: int, end: int, n_columns: int) -> Array:
    """Return (2, n_columns): the lowest and the highest sample of each column of a stretch."""
    edges = np.linspace(start, end, n_columns + 1).astype(int)
    peaks = np.zeros((2, n_columns))
    for column, (first, last) in enumerate(pairwise(edges)):
        x = source.read(int(first), max(int(last - first), 1))
        peaks[:, column] = x.min(), x.max()
    return peaks
