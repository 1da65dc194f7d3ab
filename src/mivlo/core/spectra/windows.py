"""Windows over a source at several resolutions at once: long where pitch counts, short where timing does."""

from collections.abc import Iterator, Sequence

import numpy as np

from mivlo.core import kernels
from mivlo.core.engine.source import Source
from mivlo.core.units import Floats

__all__ = ["halved_rate", "halvings_of", "windows"]

CHUNK_FRAMES = 1 << 20


def halvings_of(sample_rate_hz: float) -> int:
    """Return how often a rate is halved to a working rate from 32 to 64 kHz."""
    return max(0, int(np.floor(np.log2(sample_rate_hz / 32_000.0))))


def windows(
    source: Source, *, start: int, end: int, halvings: int, hop: int, resolutions: Sequence[tuple[int, int, float]],
    alone: bool = True,
) -> Iterator[list[list[Floats]]]:  # fmt: skip
    """Yield windows around every hop, for each resolution and channel (frames, size), a chunk of the source at a time.

    Parameters
    ----------
    halvings : of the source's rate, to the working rate; `hop` is in frames of that
    resolutions : (further halvings, size in frames at that rate, anything)
    alone : whether beyond start and end there is silence; else the source goes on

    Raises
    ------
    Nothing.
    """
    deepest = halvings + max(halved for halved, _, _ in resolutions)
    hop_of_source = hop << halvings
    margin = (max(size << halved for halved, size, _ in resolutions) << halvings) // 2 + (1 << deepest) * 64
    margin = -(-margin // hop_of_source) * hop_of_source
    step = max(CHUNK_FRAMES // hop_of_source, 1) * hop_of_source
    for first in range(start, end + hop_of_source, step):
        count = min(step, -(-(end + hop_of_source - first) // hop_of_source) * hop_of_source)
        at = first - margin, count + 2 * margin
        x = _read(source, *at, start, end) if alone else source.read(*at).astype(np.float32)
        for _ in range(halvings):
            x = halved_rate(x)
        by_resolution: list[list[Floats]] = []
        have, halved_by = 0, {0: x}
        for wanted in sorted({halved for halved, _, _ in resolutions}):
            while have < wanted:
                x, have = halved_rate(x), have + 1
            halved_by[wanted] = x
        for halved, size, _ in resolutions:
            y = halved_by[halved]
            origin, every = (margin >> halvings) >> halved, hop >> halved
            n = (count >> halvings) >> halved
            first_frame = origin - size // 2
            by_resolution.append(
                [
                    np.lib.stride_tricks.sliding_window_view(row, size)[first_frame : first_frame + n : every]
                    for row in y
                ]
            )
        yield by_resolution


def _read(source: Source, first: int, count: int, start: int, end: int) -> Floats:
    """Return (channels, count) float32 of the stretch, silence beyond it."""
    out = np.zeros((source.n_channels, count), dtype=np.float32)
    a, b = max(first, start), min(first + count, end)
    if b > a:
        out[:, a - first : b - first] = source.read(a, b - a)
    return out


def _half_band_taps() -> Floats:
    """Return every other tap behind the middle one of a half-band filter of 47; the others are 0.

    Source: windowed sinc, Kaiser's window of beta 7 (A. Oppenheim, R. Schafer, Discrete-Time Signal Processing, 7.5)
    """
    n = np.arange(47) - 23
    taps = np.sinc(n / 2.0) * np.kaiser(47, 7.0)
    return np.asarray((taps / taps.sum())[24::2], dtype=np.float32)


_TAPS = _half_band_taps()


def halved_rate(x: Floats) -> Floats:
    """Return (channels, n) at half the rate; 70 dB down from 0.62 of its Nyquist on."""
    n = x.shape[1] // 2
    out = np.empty((len(x), n), dtype=np.float32)
    kernels.halving.halve(np.ascontiguousarray(x[:, : 2 * n]).reshape(len(x), n, 2), _TAPS, out)
    return out
