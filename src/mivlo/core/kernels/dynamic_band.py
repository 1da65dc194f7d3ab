"""The loops of a dynamic move: level of a band, when it may act, gain from the level, and a filter whose gain moves."""

from typing import NamedTuple

import numpy as np
from numba import njit

from mivlo.core.kernels import SUBSTEP_FRAMES

__all__ = [
    "Gate", "Measure", "Memory", "blend", "burst_holds", "detect", "gain_steps", "highest_of_last",
    "level_steps", "run_table", "smoothed", "stroke_holds",
]  # fmt: skip

FUSED = {"contract"}
INAUDIBLE = 1e-40
AT_REST_DB = 1e-4
NEPERS_PER_DB = np.log(10.0) / 20.0
DB_PER_NEPER_OF_POWER = 10.0 / np.log(10.0)


@njit(cache=True, nogil=True, fastmath=FUSED, error_model="numpy")
def level_steps(x, less, stride, coefs, state, peaks, powers):
    """Measure x - less, both (channels, n) float64, through one section, once in SUBSTEP_FRAMES.

    Takes one frame in `stride`, for which coefs (5,) = b0, b1, b2, a1, a2 are; state (2, 2) is updated; peaks, powers
    (n // SUBSTEP_FRAMES,) are overwritten with the highest squared magnitude and the mean square, each the highest of
    the channels.
    """
    p0, p1, p2, p3, p4 = coefs[0], coefs[1], coefs[2], coefs[3], coefs[4]
    a1, a2, b1, b2 = state[0, 0], state[0, 1], state[1, 0], state[1, 1]
    left, right = x[0], x[x.shape[0] - 1]
    less_left, less_right = less[0], less[x.shape[0] - 1]
    # Both channels in one loop: two recursions that need not wait for each other.
    for j in range(x.shape[1] // SUBSTEP_FRAMES):
        high_left, high_right, sum_left, sum_right = 0.0, 0.0, 0.0, 0.0
        a1 = 0.0 if abs(a1) < INAUDIBLE else a1
        b1 = 0.0 if abs(b1) < INAUDIBLE else b1
        for i in range(j * SUBSTEP_FRAMES, (j + 1) * SUBSTEP_FRAMES, stride):
            u, v = left[i] - less_left[i], right[i] - less_right[i]
            yu, yv = p0 * u + a1, p0 * v + b1
            a1, b1 = (p1 * u + a2) - p3 * yu, (p1 * v + b2) - p3 * yv
            a2, b2 = p2 * u - p4 * yu, p2 * v - p4 * yv
            yu, yv = yu * yu, yv * yv
            high_left = yu if yu > high_left else high_left
            high_right = yv if yv > high_right else high_right
            sum_left += yu
            sum_right += yv
        peaks[j] = max(high_left, high_right)
        powers[j] = max(sum_left, sum_right) * stride / SUBSTEP_FRAMES
    state[0, 0], state[0, 1], state[1, 0], state[1, 1] = a1, a2, b1, b2


@njit(cache=True, nogil=True, fastmath=FUSED, error_model="numpy")
def blend(x, treated, gains_db, pole, full):
    """Move x (channels, n) float64 in place towards treated, so far that it has gains_db (n // SUBSTEP_FRAMES + 1,).

    full (4,): three stages, which are updated, of what is added to a tone at the full extent, and their goal.
    """
    scale = 1.0 / SUBSTEP_FRAMES
    weight = (np.exp(NEPERS_PER_DB * gains_db[0]) - 1.0) / full[2]
    for j in range(gains_db.shape[0] - 1):
        if full[2] != full[3]:
            at = full[3]
            for stage in range(3):
                full[stage] += pole * (at - full[stage])
                at = full[stage]
            if abs(at - full[3]) < 1e-7:
                full[0], full[1], full[2] = full[3], full[3], full[3]
        then = weight
        if gains_db[j + 1] != gains_db[j] or full[2] != full[3]:
            then = (np.exp(NEPERS_PER_DB * gains_db[j + 1]) - 1.0) / full[2]
        if weight != 0.0 or then != 0.0:  # at rest it is left alone, to the bit
            slope = (then - weight) * scale
            first, last = j * SUBSTEP_FRAMES, (j + 1) * SUBSTEP_FRAMES
            for c in range(x.shape[0]):
                row, other = x[c, first:last], treated[c, first:last]
                for i in range(SUBSTEP_FRAMES):
                    row[i] += (weight + slope * i) * (other[i] - row[i])
        weight = then


@njit(cache=True, nogil=True)
def highest_of_last(values, window, out):
    """Set out (n,) to the highest of each value and the window - 1 before it; values (n + window - 1,)."""
    for j in range(out.shape[0]):
        highest = values[j]
        for i in range(j + 1, j + window):
            highest = values[i] if values[i] > highest else highest
        out[j] = highest


@njit(cache=True, nogil=True)
def smoothed(values, pole, state):
    """Smooth values (n,) in place by one pole; state (1,) is the last one and is updated."""
    last = state[0]
    for j in range(values.shape[0]):
        last += pole * (values[j] - last)
        values[j] = last
    state[0] = last


@njit(cache=True, nogil=True)
def stroke_holds(power, back, ahead, rise, needed, floor, length, left, held):
    """Set held (n,) where a stroke sounds: `length` steps from where power grew `needed`-fold within `rise` steps.

    power (n + back + ahead,): step j of held stands at power[back + j]. Returns how many steps are left.
    """
    for j in range(held.shape[0]):
        at = back + j + ahead
        if power[at] > max(needed * power[at - rise], floor):
            left = length + ahead
        held[j] = left > 0
        left = max(left - 1, 0)
    return left


@njit(cache=True, nogil=True)
def burst_holds(power, back, ahead, threshold, over, low, high, rise, settle, length, left, held):
    """Set held (n,) but where a burst sounds; power as in `stroke_holds`; returns how many steps are left.

    A burst stands `over` times above what ran before, went from `low` to `high` of its height within `rise` steps,
    and has stopped to grow for `settle` steps: a note's slower onset is then known for what it is.
    """
    for j in range(held.shape[0]):
        last = back + j + ahead
        if left == 0 and power[last] > threshold:
            first = back + j - back // 2
            before = np.median(power[back + j - back : first])
            top = first
            for i in range(first, last + 1):
                top = i if power[i] > power[top] else top
            if power[top] > before * over and power[top] < 1.26 * power[last - settle : last - settle + 2].max():
                base = np.sqrt(before)
                height = np.sqrt(power[top]) - base
                begun, reached = -1, -1
                for i in range(first, top + 1):
                    part = np.sqrt(power[i]) - base
                    if part <= low * height:
                        begun, reached = i, -1
                    elif reached < 0 and part >= high * height:
                        reached = i
                if begun >= 0 and reached >= 0 and reached - begun <= rise:
                    left = length
        held[j] = left == 0
        left = max(left - 1, 0)
    return left


@njit(cache=True, nogil=True, error_model="numpy")
def gain_steps(level_db, held, figures, state, gains_db):
    """Turn levels into gains, one of each in SUBSTEP_FRAMES.

    level_db (n,) is the band's level at the moment that the gain is for; held (n,) bool tells where the move must
    keep still whatever the level; figures (7,) = threshold_db, slope (1 - 1/ratio), knee_db, depth_db, rest_db,
    attack and release as poles; state (1,) is the last gain and is updated; gains_db (n,) is overwritten.
    """
    threshold, slope, knee, depth, rest, attack, release = (
        figures[0], figures[1], figures[2], figures[3], figures[4], figures[5], figures[6],
    )  # fmt: skip
    gain = state[0]
    for j in range(level_db.shape[0]):
        over = level_db[j] - threshold
        if held[j] or 2.0 * over <= -knee:
            amount = 0.0
        elif 2.0 * over < knee:
            amount = slope * (over + knee / 2.0) ** 2 / (2.0 * knee)
        else:
            amount = slope * over
        wanted = rest + min(amount, depth) if depth > 0.0 else rest - min(amount, -depth)
        # Where it has to let go (a stroke comes), it does so as fast as it comes in.
        fast = held[j] or abs(wanted - rest) > abs(gain - rest)
        gain += (attack if fast else release) * (wanted - gain)
        if amount == 0.0 and abs(gain - rest) < AT_REST_DB:
            gain = rest  # so that below its threshold the move is at rest to the bit
        gains_db[j] = gain
    state[0] = gain


class Measure(NamedTuple):
    """How the level of a band is measured.

    coefs (5,) = b0, b1, b2, a1, a2 of its last section; window, back, ahead in steps: the highest of how many, and how
    many before and after the moment the triggers look at.
    """

    stride: int
    coefs: np.ndarray
    use_rms: bool
    smoothing: float
    window: int
    back: int
    ahead: int


class Gate(NamedTuple):
    """When the move may act.

    trigger 0 above, 1 after-stroke, 2 sudden; limits (5,) = stroke growth, threshold as power, burst over, low, high;
    counts (5,) int64 = stroke rise, stroke length, burst rise, burst settle, burst length, in steps.
    """

    trigger: int
    limits: np.ndarray
    counts: np.ndarray


class Memory(NamedTuple):
    """What is kept from block to block; `detect` updates all of it.

    section (2, 2); smooth (1,); levels (back + ahead + window - 1,): what was measured before; left (2,) int64: steps
    for which a stroke and a burst still hold; gain (1,); switch (3,) int64 = step, goal, steps.
    """

    section: np.ndarray
    smooth: np.ndarray
    levels: np.ndarray
    left: np.ndarray
    gain: np.ndarray
    switch: np.ndarray


@njit(cache=True, nogil=True, error_model="numpy")
def detect(heard, less, scale, measure, gate, figures, memory, level_db, edges_db):
    """From what is heard to the gain at the edges of the steps: all of the above in one call.

    heard, less (channels, n); scale: what a power that was read is multiplied by; figures as for `gain_steps`;
    level_db (n // SUBSTEP_FRAMES,) and edges_db (one more; the first is read) are overwritten.
    """
    window, back, ahead = measure.window, measure.back, measure.ahead
    limits, counts, left, switch = gate.limits, gate.counts, memory.left, memory.switch
    n = heard.shape[1] // SUBSTEP_FRAMES
    kept = memory.levels.shape[0]
    peaks, powers = np.empty(n), np.empty(n)
    level_steps(heard, less, measure.stride, measure.coefs, memory.section, peaks, powers)
    smoothed(powers, measure.smoothing, memory.smooth)
    all_levels = np.empty(kept + n)
    all_levels[:kept] = memory.levels
    all_levels[kept:] = scale * (powers if measure.use_rms else peaks)
    memory.levels[:] = all_levels[n:]
    steady = np.empty(kept + n - window + 1)
    if measure.use_rms:
        steady[:] = all_levels[window - 1 :]
    else:
        highest_of_last(all_levels, window, steady)
    held = np.zeros(n, dtype=np.bool_)
    now = np.empty(n)
    if gate.trigger == 1:
        floor = limits[1] / limits[0]
        left[0] = stroke_holds(steady, back, ahead, counts[0], limits[0], floor, counts[1], left[0], held)
        now[:] = steady[back : back + n]
    else:
        if gate.trigger == 2:
            left[1] = burst_holds(
                steady,
                back,
                ahead,
                limits[1],
                limits[2],
                limits[3],
                limits[4],
                counts[2],
                counts[3],
                counts[4],
                left[1],
                held,
            )
        # What comes within the look-ahead counts, so that the gain is down before it, and stays down to its end.
        highest_of_last(steady[back : back + n + ahead], ahead + 1, now)
    for j in range(n):
        level_db[j] = DB_PER_NEPER_OF_POWER * np.log(max(now[j], 1e-15))  # log10 takes three times as long
    gain_steps(level_db, held, figures, memory.gain, edges_db[1:])
    if switch[0] != switch[1] or switch[1] == 0:
        for j in range(n):
            if switch[0] != switch[1]:
                switch[0] += 1 if switch[1] > switch[0] else -1
            edges_db[j + 1] *= switch[0] / switch[2]


@njit(cache=True, nogil=True, fastmath=FUSED, error_model="numpy")
def run_table(x, gains_db, lowest_db, step_db, table, state):
    """Filter x (channels, n) float64 in place by sections whose gain glides from step to step.

    gains_db (n // SUBSTEP_FRAMES + 1,): the gain at the edges of the steps; table (gains, sections, 5) = g, k, m0,
    m1, m2 at lowest_db, lowest_db + step_db and so on; state (sections, 2, 2) is updated.
    """
    scale = 1.0 / SUBSTEP_FRAMES
    left, right = x[0], x[x.shape[0] - 1]
    stereo = x.shape[0] == 2
    for s in range(table.shape[1]):
        s1, s2, t1, t2 = state[s, 0, 0], state[s, 0, 1], state[s, 1, 0], state[s, 1, 1]
        now = _step_form(table, s, gains_db[0], lowest_db, step_db)
        for j in range(x.shape[1] // SUBSTEP_FRAMES):
            s1 = 0.0 if abs(s1) < INAUDIBLE else s1
            t1 = 0.0 if abs(t1) < INAUDIBLE else t1
            p11, p21, p22, r0, r1, h0 = now
            then = now if gains_db[j] == gains_db[j + 1] else _step_form(table, s, gains_db[j + 1], lowest_db, step_db)
            d11, d21, d22 = (then[0] - p11) * scale, (then[1] - p21) * scale, (then[2] - p22) * scale
            e0, e1, eh = (then[3] - r0) * scale, (then[4] - r1) * scale, (then[5] - h0) * scale
            for i in range(j * SUBSTEP_FRAMES, (j + 1) * SUBSTEP_FRAMES):
                u = left[i]
                b2 = 1.0 - p22
                if stereo:
                    v = right[i]
                    right[i] = h0 * v + (r0 * t1 + r1 * t2)
                    t1, t2 = p21 * (v - t2) + p11 * t1, (b2 * v + p22 * t2) + p21 * t1
                left[i] = h0 * u + (r0 * s1 + r1 * s2)
                s1, s2 = p21 * (u - s2) + p11 * s1, (b2 * u + p22 * s2) + p21 * s1
                p11, p21, p22 = p11 + d11, p21 + d21, p22 + d22
                r0, r1, h0 = r0 + e0, r1 + e1, h0 + eh
            now = then
        state[s, 0, 0], state[s, 0, 1], state[s, 1, 0], state[s, 1, 1] = s1, s2, t1, t2


@njit(cache=True, nogil=True, error_model="numpy")
def _step_form(table, s, gain_db, lowest_db, step_db):
    """Look a section up at a gain, as s1' = p21·(u - s2) + p11·s1, s2' = (1 - p22)·u + p22·s2 + p21·s1, y = h·u +
    r·s."""
    at = (gain_db - lowest_db) / step_db
    index = min(max(int(at), 0), table.shape[0] - 2)
    t = min(max(at - index, 0.0), 1.0)
    g, k, m0, m1, m2 = (
        table[index, s, 0] + t * (table[index + 1, s, 0] - table[index, s, 0]),
        table[index, s, 1] + t * (table[index + 1, s, 1] - table[index, s, 1]),
        table[index, s, 2] + t * (table[index + 1, s, 2] - table[index, s, 2]),
        table[index, s, 3] + t * (table[index + 1, s, 3] - table[index, s, 3]),
        table[index, s, 4] + t * (table[index + 1, s, 4] - table[index, s, 4]),
    )
    a1 = 1.0 / (1.0 + g * (g + k))
    a2 = g * a1
    a3 = g * a2
    return (
        2.0 * a1 - 1.0,
        2.0 * a2,
        1.0 - 2.0 * a3,
        m1 * a1 + m2 * a2,
        m2 * (1.0 - a3) - m1 * a2,
        m0 + m1 * a2 + m2 * a3,
    )
