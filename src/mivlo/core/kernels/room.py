"""The loop of a room: delay, diffusion, and a network of delay lines that feed one another."""

from typing import NamedTuple

import numpy as np
from numba import njit

from mivlo.core.kernels import SUBSTEP_FRAMES

__all__ = ["FADE_STEPS", "LINES", "Memory", "run"]

LINES = 16
FADE_STEPS = 64  # of SUBSTEP_FRAMES: 43 ms at 48 kHz from one delay before the room to another
INAUDIBLE = 1e-40
ARRIVED = 1e-7


class Memory(NamedTuple):
    """What is kept from block to block; `run` updates all of it.

    before (2, most): what waits before the room; at (1 + 2·allpasses + LINES,) int64: where each ring stands; delays
    (4,) int64 = the delay before that sounds, the one that comes, the one that is wanted, steps of the fade done;
    diffused (2, allpasses, longest); lines (LINES, longest); absorbed (LINES,); now (LINES, 2) and wanted: gain and
    pole of each line; wet (4, 3) = now, one stage before, wanted, of left to left, right to left, left to right, right
    to right.
    """

    before: np.ndarray
    at: np.ndarray
    delays: np.ndarray
    diffused: np.ndarray
    lines: np.ndarray
    absorbed: np.ndarray
    now: np.ndarray
    wanted: np.ndarray
    wet: np.ndarray


@njit(cache=True, nogil=True, error_model="numpy")
def run(x, heard, memory, allpass_frames, allpass_gain, line_frames, into, out_of, pole):
    """Add the room to x (channels, n) float64 in place.

    heard (2, n): what goes into it, overwritten; allpass_frames (2, allpasses), line_frames (LINES,) int64; into
    (LINES,): sign and size of what each line takes in, from the left for even lines, from the right for odd ones;
    out_of (2, LINES); pole: of the glides, a step.
    """
    n_allpasses = allpass_frames.shape[1]
    most = memory.before.shape[1]
    at, delays, now, wanted, wet = memory.at, memory.delays, memory.now, memory.wanted, memory.wet
    y = np.empty((LINES, SUBSTEP_FRAMES))
    for j in range(x.shape[1] // SUBSTEP_FRAMES):
        first = j * SUBSTEP_FRAMES
        u = heard[:, first : first + SUBSTEP_FRAMES]
        if delays[3] == 0 and delays[1] != delays[2]:
            delays[1] = delays[2]
        _delay(u, memory.before, at[0], delays, most)
        at[0] = (at[0] + SUBSTEP_FRAMES) % most
        for c in range(2):
            for a in range(n_allpasses):
                ring, place = 1 + c * n_allpasses + a, memory.diffused[c, a]
                k, size = at[ring], allpass_frames[c, a]
                for i in range(SUBSTEP_FRAMES):
                    waited = place[k]
                    fed = u[c, i] + allpass_gain * waited
                    place[k] = fed if abs(fed) > INAUDIBLE else 0.0
                    u[c, i] = waited - allpass_gain * fed
                    k = k + 1 if k + 1 < size else 0
                at[ring] = k
        for line in range(LINES):
            if now[line, 0] != wanted[line, 0] or now[line, 1] != wanted[line, 1]:
                for k in range(2):
                    now[line, k] += pole * (wanted[line, k] - now[line, k])
                    if abs(now[line, k] - wanted[line, k]) < ARRIVED:
                        now[line, k] = wanted[line, k]
            k, size, place = at[1 + 2 * n_allpasses + line], line_frames[line], memory.lines[line]
            own, kept, state = now[line, 0] * (1.0 - now[line, 1]), now[line, 1], memory.absorbed[line]
            for i in range(SUBSTEP_FRAMES):
                state = own * place[k] + kept * state
                y[line, i] = state
                k = k + 1 if k + 1 < size else 0
            memory.absorbed[line] = state if abs(state) > INAUDIBLE else 0.0
        _add(x[:, first : first + SUBSTEP_FRAMES], y, out_of, wet, pole)
        _mix_lines(y)
        for line in range(LINES):
            ring, place = 1 + 2 * n_allpasses + line, memory.lines[line]
            k, size, side = at[ring], line_frames[line], line % 2
            for i in range(SUBSTEP_FRAMES):
                fed = 0.25 * y[line, i] + into[line] * u[side, i]
                place[k] = fed if abs(fed) > INAUDIBLE else 0.0
                k = k + 1 if k + 1 < size else 0
            at[ring] = k


@njit(cache=True, nogil=True, error_model="numpy")
def _delay(u, before, at, delays, most):
    """Put u (2, SUBSTEP_FRAMES) behind the delay before the room; from one delay to another it is faded over."""
    fading = delays[0] != delays[1]
    for i in range(SUBSTEP_FRAMES):
        k = (at + i) % most
        weight = (delays[3] + (i + 1) / SUBSTEP_FRAMES) / FADE_STEPS if fading else 0.0
        old, new = (k - delays[0]) % most, (k - delays[1]) % most
        for c in range(2):
            before[c, k] = u[c, i]
            u[c, i] = before[c, old]
            if fading:
                u[c, i] += weight * (before[c, new] - before[c, old])
    if fading:
        delays[3] += 1
        if delays[3] == FADE_STEPS:
            delays[0], delays[3] = delays[1], 0


@njit(cache=True, nogil=True, error_model="numpy")
def _add(x, y, out_of, wet, pole):
    """Add the lines y (LINES, n) to x (1 or 2, n), by four weights that glide."""
    n = x.shape[1]
    out = np.zeros((2, n))
    for c in range(2):
        for line in range(LINES):
            sign, row = out_of[c, line], y[line]
            for i in range(n):
                out[c, i] += sign * row[i]
    for k in range(wet.shape[0]):
        before = wet[k, 0]
        if wet[k, 0] != wet[k, 2]:
            wet[k, 1] += pole * (wet[k, 2] - wet[k, 1])
            wet[k, 0] += pole * (wet[k, 1] - wet[k, 0])
            if abs(wet[k, 0] - wet[k, 2]) < ARRIVED:
                wet[k, 0] = wet[k, 1] = wet[k, 2]
        c, source = k // 2, k % 2
        if c < x.shape[0] and (before != 0.0 or wet[k, 0] != 0.0):
            slope = (wet[k, 0] - before) / n
            for i in range(n):
                x[c, i] += (before + slope * i) * out[source, i]


@njit(cache=True, nogil=True, error_model="numpy")
def _mix_lines(y):
    """Turn y (LINES, n) into four times itself through an orthogonal matrix (Hadamard's)."""
    half = 1
    while half < LINES:
        for a in range(0, LINES, 2 * half):
            for b in range(a, a + half):
                upper, lower = y[b], y[b + half]
                for i in range(y.shape[1]):
                    one, other = upper[i], lower[i]
                    upper[i] = one + other
                    lower[i] = one - other
        half *= 2
