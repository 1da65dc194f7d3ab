"""Listening through something else than what one has, for the ears only: mono, a small loudspeaker, a curve."""

from functools import lru_cache
from itertools import pairwise
from typing import Annotated, Literal, Self

import numpy as np
from pydantic import Field, model_validator

from mivlo.core import kernels
from mivlo.core.cloning import sharing_clone
from mivlo.core.engine.ramp import Ramp
from mivlo.core.filters.biquad import frequency_response
from mivlo.core.filters.matched import plain_bell, plain_cut
from mivlo.core.k_weighting import k_weighting_power
from mivlo.core.model import Frozen
from mivlo.core.processors.chain import Chain, KeyedSection
from mivlo.core.units import Array

__all__ = ["ListenThrough", "Through"]

MOST_POINTS = 400
CURVE_TAPS, CURVE_BINS = 1_024, 16_384
# Of a loudspeaker of a few centimetres in a small box (common practice, no source).
SPEAKER_FROM_HZ, SPEAKER_TO_HZ, SPEAKER_BELL = 190.0, 8_000.0, (1_800.0, 4.0, 0.8)
PINK_HZ = np.geomspace(20.0, 20_000.0, 400)

CurvePoint = tuple[Annotated[float, Field(ge=5.0, le=40_000.0)], Annotated[float, Field(ge=-60.0, le=30.0)]]


class ListenThrough(Frozen):
    """What is listened through; `curve` has pairs of Hz and dB, rising, for its own kind only."""

    kind: Literal["nothing", "mono", "small-speaker", "curve"] = "nothing"
    curve: tuple[CurvePoint, ...] = Field(default=(), max_length=MOST_POINTS)

    @model_validator(mode="after")
    def _has_what_it_needs(self) -> Self:
        if self.kind == "curve" and len(self.curve) < 2:
            raise ValueError(f"a curve needs two pairs of Hz and dB or more, but has {len(self.curve)}")
        wrong = next((b for (a, _), (b, _) in pairwise(self.curve) if b <= a), None)
        if wrong is not None:
            raise ValueError(f"the frequencies of a curve must rise: {wrong:g} Hz stands behind one that is not lower")
        return self


class _Ears:
    """One way of listening, running; as loud as without it, for pink noise by the K weighting."""

    def __init__(self, how: ListenThrough, sample_rate_hz: float) -> None:
        self._mono = how.kind != "curve"
        sections = _speaker(sample_rate_hz) if how.kind == "small-speaker" else ()
        self._chain = Chain(2, sample_rate_hz, sections)
        self._taps = _curve_taps(how.curve, sample_rate_hz) if how.kind == "curve" else np.ones(1)
        self._past = np.zeros((2, len(self._taps) - 1))
        response = np.ones(len(PINK_HZ))
        if sections:
            response = np.abs(
                frequency_response([one.section for one in sections], PINK_HZ, sample_rate_hz=sample_rate_hz)
            )
        if how.kind == "curve":
            response = 10.0 ** (_curve_db(how.curve, PINK_HZ) / 20.0)
        heard = k_weighting_power(PINK_HZ, sample_rate_hz)
        self._gain = float(np.sqrt(heard.sum() / (heard * response**2).sum()))

    def clone(self) -> Self:
        other = sharing_clone(self)
        other._chain, other._past = self._chain.clone(), self._past.copy()
        return other

    def heard(self, x: Array) -> Array:
        """Return (2, n) as it is heard."""
        y = np.repeat(0.5 * (x[:1] + x[1:]), 2, axis=0) if self._mono else x.copy()
        self._chain.process(y)
        if len(self._taps) > 1:
            for lane, past in zip(y, self._past, strict=True):
                kernels.shaping.convolved(lane, past, self._taps)
        return y * self._gain if self._gain != 1.0 else y


class Through:
    """Fades from one way of listening to another; silent ways are let go."""

    def __init__(self, how: ListenThrough, *, sample_rate_hz: float) -> None:
        self._rate = sample_rate_hz
        self._how = how
        self._plain = Ramp(0.0 if how.kind != "nothing" else 1.0)
        self._ways = [] if how.kind == "nothing" else [(_Ears(how, sample_rate_hz), Ramp(1.0))]

    def clone(self) -> Self:
        """Return one that goes on from here on its own."""
        other = sharing_clone(self)
        other._plain = self._plain.clone()
        other._ways = [(ears.clone(), weight.clone()) for ears, weight in self._ways]
        return other

    def set_goal(self, how: ListenThrough, *, frame: int) -> None:
        """Listen another way from a frame on."""
        if how == self._how:
            return
        self._how = how
        self._ways = [one for one in self._ways if not (one[1].goal == 0.0 and one[1].rests_at(frame))]
        for _, weight in self._ways:
            weight.set_goal(0.0, frame=frame)
        self._plain.set_goal(0.0 if how.kind != "nothing" else 1.0, frame=frame)
        if how.kind != "nothing":
            weight = Ramp(0.0)
            weight.set_goal(1.0, frame=frame)
            self._ways.append((_Ears(how, self._rate), weight))

    def process(self, x: Array, frame: int) -> Array:
        """Return (2, n) of whole control steps as they are heard from a stream frame on."""
        if not self._ways:
            return x
        n = x.shape[1]
        out = x * self._plain.take(frame, n)
        for ears, weight in self._ways:
            out = out + ears.heard(x) * weight.take(frame, n)
        return out


def _speaker(sample_rate_hz: float) -> tuple[KeyedSection, ...]:
    hz, gain_db, q = SPEAKER_BELL
    sections = (
        *plain_cut(SPEAKER_FROM_HZ, 4, high_pass=True, sample_rate_hz=sample_rate_hz),
        *plain_cut(SPEAKER_TO_HZ, 2, high_pass=False, sample_rate_hz=sample_rate_hz),
        plain_bell(hz, gain_db, q, sample_rate_hz=sample_rate_hz),
    )
    return tuple(KeyedSection(str(index), section) for index, section in enumerate(sections))


def _curve_db(curve: tuple[CurvePoint, ...], hz: Array) -> Array:
    """Return (bins,) dB: straight lines between the points over log Hz, level beyond them."""
    points_hz, points_db = np.array(curve).T
    return np.asarray(np.interp(np.log2(np.maximum(hz, 1.0)), np.log2(points_hz), points_db))


@lru_cache(maxsize=8)
def _curve_taps(curve: tuple[CurvePoint, ...], sample_rate_hz: float) -> Array:
    """Return the impulse of a curve in minimum phase, which delays nothing.

    Source: the folded cepstrum (A. Oppenheim, R. Schafer, Discrete-Time Signal Processing, from memory)
    """
    hz = np.arange(CURVE_BINS // 2 + 1) * sample_rate_hz / CURVE_BINS
    cepstrum = np.fft.irfft(_curve_db(curve, hz) * np.log(10.0) / 20.0)
    cepstrum[1 : CURVE_BINS // 2] *= 2.0
    cepstrum[CURVE_BINS // 2 + 1 :] = 0.0
    taps = np.fft.irfft(np.exp(np.fft.rfft(cepstrum)))[:CURVE_TAPS]
    fade = CURVE_TAPS // 4
    taps[-fade:] *= 0.5 + 0.5 * np.cos(np.pi * np.arange(fade) / fade)
    return np.asarray(taps)
