"""The pitch line of a track with one voice: a line that does not follow it is plain to see beside it."""

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from scipy.fft import irfft, next_fast_len, rfft

from mivlo.core import kernels
from mivlo.core.engine.source import Source
from mivlo.core.spectra.windows import halved_rate
from mivlo.core.units import Array, Floats

__all__ = ["HOP_S", "PitchLine", "lowest_pitch_hz", "pitch_line"]

HOP_S = 0.01
WINDOW_S = 0.05  # two periods of the lowest pitch
LOWEST_HZ, HIGHEST_HZ = 40.0, 2_500.0
HIGHEST_RATE_HZ = 16_000.0  # halved down to it: lags are read between frames
FRAMES_AT_ONCE = 512
CANDIDATES, LEAST_LIKENESS = 5, 0.3
# Of the path: a shorter period is preferred a little; silence is as likely as a likeness of 0.5; costs for 10 ms.
OCTAVE_COST, SILENCE_LIKENESS, JUMP_COST, TURN_COST = 0.1, 0.5, 0.35, 0.14
ACTIVE_DB, SILENT_DB = 35.0, -80.0  # below the loudest, and at all
CLEAR_LIKENESS = 0.75
# Of what is loud so much has a pitch, and so much of that is plain: else there is no one voice. What is softer, in a
# recording made at home, is breath, hiss and room.
LOUD_DB, LEAST_VOICED, MOSTLY = 20.0, 0.55, 0.52
ROOTED, LOW_PARTIALS, PARTIALS = 0.06, 3, 8  # a period without low partials is what several notes have in common
LOW_SHARE = 0.05  # of the plain points lie at or below the lowest pitch


@dataclass(frozen=True, slots=True)
class PitchLine:
    """`times_s` and `hz` (points,), NaN in `hz` where the line breaks; `one_voice` tells whether to believe it.

    `clear` (points,): where nothing but that pitch sounds.
    """

    times_s: Floats
    hz: Floats
    clear: np.ndarray
    one_voice: bool


def pitch_line(source: Source, *, start: int, end: int, sample_rate_hz: float) -> PitchLine:
    """Return the fundamental of what sounds over a stretch, every 10 ms; beyond the source there is silence.

    Raises
    ------
    Nothing.

    Source: normalised square difference (P. McLeod, G. Wyvill, "A smarter way to find pitch", ICMC 2005); the way
    through the candidates after P. Boersma, IFA Proceedings 17, 1993 (both from memory)
    """
    octaves: list[Array] = []
    strength: list[Array] = []
    power: list[Array] = []
    plain: list[Array] = []
    for block in _blocks(source, start, end, sample_rate_hz):
        parts = _candidates(*block)
        for whole, part in zip((octaves, strength, power, plain), parts, strict=True):
            whole.append(part)
    times_s = start / sample_rate_hz + HOP_S * np.arange(len(np.concatenate(power)))
    hz = np.full(len(times_s), np.nan)
    if not len(times_s):
        return PitchLine(times_s, hz, np.zeros(0, dtype=bool), one_voice=False)
    level_db = 10.0 * np.log10(np.concatenate(power) + 1e-15)
    sounding = level_db > max(float(level_db.max()) - ACTIVE_DB, SILENT_DB)
    likeness = np.concatenate(strength)
    silence = np.where(sounding, _sharpened(SILENCE_LIKENESS), 2.0)
    path = kernels.voice_path.likeliest(
        np.pad(np.concatenate(octaves), ((0, 0), (0, 1))), np.column_stack([likeness, silence]), JUMP_COST, TURN_COST
    )
    voiced = np.flatnonzero(path < CANDIDATES)
    hz[voiced] = 2.0 ** np.concatenate(octaves)[voiced, path[voiced]]
    clear = np.zeros(len(hz), dtype=bool)
    clear[voiced] = np.concatenate(plain)[voiced, path[voiced]]
    loud = sounding & (level_db > level_db.max() - LOUD_DB)
    pitched = loud & np.isfinite(hz)
    enough = np.count_nonzero(pitched) >= max(LEAST_VOICED * np.count_nonzero(loud), 1)
    return PitchLine(times_s, hz, clear, one_voice=bool(enough and np.mean(clear[pitched]) >= MOSTLY))


def _sharpened(likeness: Array | float) -> Array:
    """Return likenesses (up to 1) pulled apart near 1, where the halves of a period are told from the whole."""
    return np.asarray(1.0 - np.sqrt(np.maximum(1.0 - np.asarray(likeness), 0.0)))


def lowest_pitch_hz(line: PitchLine) -> float | None:
    """Return about the lowest pitch of one voice: the 5th percentile, with enough of the time at or below it.

    Raises
    ------
    Nothing: None where there is no one voice.

    Source: ours
    """
    heard = np.sort(line.hz[line.clear])
    if not line.one_voice or not len(heard):
        return None
    return float(heard[int(LOW_SHARE * (len(heard) - 1))])


def _blocks(source: Source, start: int, end: int, sample_rate_hz: float) -> Iterator[tuple[Array, float]]:
    """Yield windows (frames, size) around every hop, and their rate."""
    halvings = max(0, int(np.ceil(np.log2(sample_rate_hz / HIGHEST_RATE_HZ))))
    rate, scale = sample_rate_hz / 2.0**halvings, 1 << halvings
    size, margin = round(WINDOW_S * rate), 64
    n_hops = int((end - start) / sample_rate_hz / HOP_S) + 1
    for first in range(0, n_hops, FRAMES_AT_ONCE):
        count = min(FRAMES_AT_ONCE, n_hops - first)
        places = np.round((first + np.arange(count)) * HOP_S * rate).astype(int) - size // 2 - margin
        length = int(places[-1] - places[0]) + size + 2 * margin
        x = _read(source, start + int(places[0]) * scale, length * scale, start, end)
        for _ in range(halvings):
            x = halved_rate(x)
        mono = np.asarray(x.mean(axis=0), dtype=np.float32)
        yield np.stack([mono[at : at + size] for at in places - places[0] + margin]), rate


def _read(source: Source, first: int, count: int, start: int, end: int) -> Floats:
    out = np.zeros((source.n_channels, count), dtype=np.float32)
    a, b = max(first, start, 0), min(first + count, end, source.n_frames)
    if b > a:
        out[:, a - first : b - first] = source.read(a, b - a)
    return out


def _candidates(x: Array, rate: float) -> tuple[Array, Array, Array, Array]:
    """Return what windows (frames, size) may have as pitch: (frames, candidates) log2 of Hz and strength, the power
    (frames,), and whether each candidate is plain (frames, candidates)."""
    x = x - x.mean(axis=1, keepdims=True)
    n, most = x.shape[1], int(rate / LOWEST_HZ) + 2
    fft_size = next_fast_len(n + most, real=True)
    spectrum = rfft(x, fft_size, axis=1)
    bins = spectrum.real**2 + spectrum.imag**2
    products = irfft(bins, fft_size, axis=1)[:, :most]
    squares = np.cumsum(np.asarray(x, dtype=np.float64) ** 2, axis=1)
    total = squares[:, -1:]
    before = np.concatenate([np.zeros_like(total), squares[:, : most - 1]], axis=1)
    energy = total - before + squares[:, n - 1 - np.arange(most)]
    likeness = np.where(energy > 1e-9 * total.max(initial=1e-12), 2.0 * products / np.maximum(energy, 1e-12), 0.0)
    least = max(int(rate / HIGHEST_HZ), 2)
    middle = likeness[:, least : most - 1]
    tops = (middle > likeness[:, least - 1 : most - 2]) & (middle >= likeness[:, least + 1 : most])
    lags = np.arange(least, most - 1)
    score = np.where(tops & (middle > LEAST_LIKENESS), middle - OCTAVE_COST * np.log2(lags / least), -1.0)
    chosen = np.argpartition(-score, CANDIDATES, axis=1)[:, :CANDIDATES]
    rows = np.arange(len(x))[:, None]
    a, b, c = (likeness[rows, chosen + least + step] for step in (-1, 0, 1))
    bend = np.minimum(a - 2.0 * b + c, -1e-9)
    off = np.clip(0.5 * (a - c) / bend, -0.5, 0.5)
    hz = rate / (chosen + least + off)
    # Between the lags a peak is higher than at the nearest: a short period must not lose by that to twice its length.
    alike = np.where(score[rows, chosen] > 0.0, b - 0.25 * (a - c) * off, 0.0)
    octaves, sharp = np.log2(hz), _sharpened(alike)
    # Which of them it is, the shorter period decides a little; whether it is any, only how alike the best of them is.
    favour = sharp + OCTAVE_COST * octaves
    best = favour.argmax(axis=1)[:, None]
    strength = favour - favour[rows, best] + sharp[rows, best]
    partials = np.arange(1, PARTIALS + 1)
    at = np.minimum(np.round(hz[..., None] * partials * fft_size / rate).astype(int), bins.shape[1] - 2)
    near = np.maximum(
        bins[rows[..., None], at], np.maximum(bins[rows[..., None], at - 1], bins[rows[..., None], at + 1])
    )
    rooted = near[..., :LOW_PARTIALS].sum(axis=2) / np.maximum(near.sum(axis=2), 1e-20)
    return octaves, strength, total[:, 0] / n, (alike > CLEAR_LIKENESS) & (rooted > ROOTED)
