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

    heard (2, n): what goes into it; allpass_frames (2, allpasses), line_frames (LINES,) int64; into
    (LINES,): sign and size of what each line takes in, from the left for even lines, from the right for odd ones;
    out_of (2, LINES); pole: of the glides, a step.
    """
    n_allpasses = allpass_frames.shape[1]
    most = memory.before.shape[1]
    at, delays, now, wanted, wet = memory.at, memory.delays, memory.now, memory.wanted, memory.wet
    # Of their own, since what lies in one piece is computed several frames at a time.
    u, y, out = np.empty((2, SUBSTEP_FRAMES)), np.empty((LINES, SUBSTEP_FRAMES)), np.empty((2, SUBSTEP_FRAMES))
    for j in range(x.shape[1] // SUBSTEP_FRAMES):
        first = j * SUBSTEP_FRAMES
        for c in range(2):
            for i in range(SUBSTEP_FRAMES):
                u[c, i] = heard[c, first + i]
        if delays[3] == 0 and delays[1] != delays[2]:
            delays[1] = delays[2]
        _delay(u, memory.before, at[0], delays, most)
        at[0] = (at[0] + SUBSTEP_FRAMES) % most
        _diffuse(u, memory.diffused, at, allpass_frames, allpass_gain)
        for line in range(LINES):
            if now[line, 0] != wanted[line, 0] or now[line, 1] != wanted[line, 1]:
                for k in range(2):
                    now[line, k] += pole * (wanted[line, k] - now[line, k])
                    if abs(now[line, k] - wanted[line, k]) < ARRIVED:
                        now[line, k] = wanted[line, k]
        rings = at[1 + 2 * n_allpasses :]
        _take_out(y, memory.lines, rings, line_frames)
        _absorb(y, memory.absorbed, now)
        _add(x, first, y, out, out_of, wet, pole)
        _mix_lines(y)
        _put_in(memory.lines, rings, line_frames, y, u, into)


# Rings are longer than a step: what is taken out was put in before, and each step is one piece of a ring, or two. The
# pieces are cut out where they are gone through: handed to a function, each costs more than the piece itself.


@njit(cache=True, nogil=True, error_model="numpy")
def _diffuse(u, diffused, at, frames, gain):
    """Send u (2, n) through the all-passes of its side."""
    n = u.shape[1]
    for c in range(2):
        for a in range(frames.shape[1]):
            ring, size = 1 + c * frames.shape[1] + a, frames[c, a]
            k, done = at[ring], 0
            while done < n:
                piece = min(size - k, n - done)
                place, part = diffused[c, a, k : k + piece], u[c, done : done + piece]
                for i in range(piece):
                    waited = place[i]
                    fed = part[i] + gain * waited
                    place[i] = fed if abs(fed) > INAUDIBLE else 0.0
                    part[i] = waited - gain * fed
                done += piece
                k = k + piece if k + piece < size else 0
            at[ring] = k


@njit(cache=True, nogil=True, error_model="numpy")
def _take_out(y, lines, at, frames):
    """Put what comes out of the lines into y (LINES, n)."""
    n = y.shape[1]
    for line in range(LINES):
        k, done = at[line], 0
        while done < n:
            piece = min(frames[line] - k, n - done)
            place, part = lines[line, k : k + piece], y[line, done : done + piece]
            for i in range(piece):
                part[i] = place[i]
            done += piece
            k = k + piece if k + piece < frames[line] else 0


@njit(cache=True, nogil=True, error_model="numpy")
def _absorb(y, absorbed, now):
    """Send y (LINES, n) through the losses of its lines: four side by side, since each frame waits for the one
    before."""
    for line in range(0, LINES, 4):
        one, other, third, last = y[line], y[line + 1], y[line + 2], y[line + 3]
        a, b, c, d = absorbed[line], absorbed[line + 1], absorbed[line + 2], absorbed[line + 3]
        own_a, kept_a = now[line, 0] * (1.0 - now[line, 1]), now[line, 1]
        own_b, kept_b = now[line + 1, 0] * (1.0 - now[line + 1, 1]), now[line + 1, 1]
        own_c, kept_c = now[line + 2, 0] * (1.0 - now[line + 2, 1]), now[line + 2, 1]
        own_d, kept_d = now[line + 3, 0] * (1.0 - now[line + 3, 1]), now[line + 3, 1]
        for i in range(y.shape[1]):
            a = own_a * one[i] + kept_a * a
            b = own_b * other[i] + kept_b * b
            c = own_c * third[i] + kept_c * c
            d = own_d * last[i] + kept_d * d
            one[i], other[i], third[i], last[i] = a, b, c, d
        absorbed[line], absorbed[line + 1], absorbed[line + 2], absorbed[line + 3] = a, b, c, d
    for line in range(LINES):
        if abs(absorbed[line]) <= INAUDIBLE:
            absorbed[line] = 0.0


@njit(cache=True, nogil=True, error_model="numpy")
def _put_in(lines, at, frames, y, u, into):
    """Put what comes round, y (LINES, n), and what comes in, u (2, n), into the lines."""
    n = y.shape[1]
    for line in range(LINES):
        k, done, gain = at[line], 0, into[line]
        while done < n:
            piece = min(frames[line] - k, n - done)
            place = lines[line, k : k + piece]
            round_, new = y[line, done : done + piece], u[line % 2, done : done + piece]
            for i in range(piece):
                fed = 0.25 * round_[i] + gain * new[i]
                place[i] = fed if abs(fed) > INAUDIBLE else 0.0
            done += piece
            k = k + piece if k + piece < frames[line] else 0
        at[line] = k


@njit(cache=True, nogil=True, error_model="numpy")
def _delay(u, before, at, delays, most):
    """Put u (2, SUBSTEP_FRAMES) behind the delay before the room; from one delay to another it is faded over."""
    fading = delays[0] != delays[1]
    for i in range(SUBSTEP_FRAMES):
        k = at + i if at + i < most else at + i - most
        old = k - delays[0] if k >= delays[0] else k - delays[0] + most
        for c in range(2):
            before[c, k] = u[c, i]
            u[c, i] = before[c, old]
        if fading:
            weight = (delays[3] + (i + 1) / SUBSTEP_FRAMES) / FADE_STEPS
            new = k - delays[1] if k >= delays[1] else k - delays[1] + most
            for c in range(2):
                u[c, i] += weight * (before[c, new] - before[c, old])
    if fading:
        delays[3] += 1
        if delays[3] == FADE_STEPS:
            delays[0], delays[3] = delays[1], 0


@njit(cache=True, nogil=True, error_model="numpy")
def _add(x, first, y, out, out_of, wet, pole):
    """Add the lines y (LINES, n) to x (1 or 2, frames) from a frame on, by four weights that glide; out (2, n) is room
    for their sums."""
    n = y.shape[1]
    for c in range(2):
        for i in range(n):
            out[c, i] = 0.0
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
                x[c, first + i] += (before + slope * i) * out[source, i]


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
