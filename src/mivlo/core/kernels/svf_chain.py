"""The loop that runs a chain of state-variable sections over a signal, gliding where figures move."""

import numpy as np
from numba import njit

__all__ = ["CONTROL_FRAMES", "run_chain"]

CONTROL_FRAMES = 64  # the absolute grid on which figures may change


@njit(cache=True, nogil=True)
def run_chain(x, frame, state, now, then, stages, target, left, wet_now, wet_then, wet_step, wet_goal, wet_curve, pole):
    """Filter x (channels, n) float64 C-order in place; `frame` is the absolute index of its first sample.

    All other arrays are the chain's own and are updated: state (sections, channels, 2); now, then, target
    (sections, 5) = g, k, m0, m1, m2; stages (sections, 3, 5); left, wet_step, wet_goal (sections,) int64;
    wet_now, wet_then (sections,). Callers zero `state` of a new section.
    """
    n_channels, n = x.shape
    n_sections = state.shape[0]
    done = 0
    while done < n:
        phase = (frame + done) % CONTROL_FRAMES
        if phase == 0:
            for s in range(n_sections):
                _next_knot(s, now, then, stages, target, left, wet_now, wet_then, wet_step, wet_goal, wet_curve, pole)
        count = min(n - done, CONTROL_FRAMES - phase)
        for s in range(n_sections):
            moving = wet_now[s] != wet_then[s]
            for j in range(5):
                moving = moving or now[s, j] != then[s, j]
            if moving:
                _run_moving(x, done, count, phase, state[s], now[s], then[s], wet_now[s], wet_then[s])
            else:
                _run_steady(x, done, count, state[s], now[s], wet_now[s])
        done += count
        if phase + count == CONTROL_FRAMES:
            for s in range(n_sections):
                for c in range(n_channels):
                    for i in range(2):
                        # Below any audible level: keeps a fading filter out of the slow denormal numbers.
                        if abs(state[s, c, i]) < 1e-40:
                            state[s, c, i] = 0.0


@njit(cache=True, nogil=True)
def _next_knot(s, now, then, stages, target, left, wet_now, wet_then, wet_step, wet_goal, wet_curve, pole):
    """Move section s on to the next knot of the control grid."""
    for j in range(5):
        now[s, j] = then[s, j]
    if left[s] > 0:
        left[s] -= 1
        for j in range(5):
            if left[s] == 0:
                stages[s, 0, j] = stages[s, 1, j] = stages[s, 2, j] = target[s, j]
            else:
                stages[s, 0, j] += pole * (target[s, j] - stages[s, 0, j])
                stages[s, 1, j] += pole * (stages[s, 0, j] - stages[s, 1, j])
                stages[s, 2, j] += pole * (stages[s, 1, j] - stages[s, 2, j])
            then[s, j] = stages[s, 2, j]
    wet_now[s] = wet_then[s]
    if wet_step[s] < wet_goal[s]:
        wet_step[s] += 1
    elif wet_step[s] > wet_goal[s]:
        wet_step[s] -= 1
    wet_then[s] = wet_curve[wet_step[s]]


@njit(cache=True, nogil=True)
def _run_steady(x, start, count, state, coefs, wet):
    """Run one section whose figures stand still; wet is 0 (only the state runs) or 1, or rests between."""
    g, k, m0, m1, m2 = coefs[0], coefs[1], coefs[2], coefs[3], coefs[4]
    a1 = 1.0 / (1.0 + g * (g + k))
    a2 = g * a1
    a3 = g * a2
    for c in range(x.shape[0]):
        ic1, ic2 = state[c, 0], state[c, 1]
        for i in range(start, start + count):
            v0 = x[c, i]
            v3 = v0 - ic2
            v1 = a1 * ic1 + a2 * v3
            v2 = ic2 + a2 * ic1 + a3 * v3
            ic1 = 2.0 * v1 - ic1
            ic2 = 2.0 * v2 - ic2
            if wet == 1.0:
                x[c, i] = m0 * v0 + m1 * v1 + m2 * v2
            elif wet != 0.0:
                x[c, i] = (1.0 - wet) * v0 + wet * (m0 * v0 + m1 * v1 + m2 * v2)
        state[c, 0], state[c, 1] = ic1, ic2


@njit(cache=True, nogil=True)
def _run_moving(x, start, count, phase, state, now, then, wet_now, wet_then):
    """Run one section whose figures glide from one knot to the next."""
    for i in range(count):
        t = (phase + i) / CONTROL_FRAMES
        g = now[0] + t * (then[0] - now[0])
        k = now[1] + t * (then[1] - now[1])
        m0 = now[2] + t * (then[2] - now[2])
        m1 = now[3] + t * (then[3] - now[3])
        m2 = now[4] + t * (then[4] - now[4])
        wet = wet_now + t * (wet_then - wet_now)
        a1 = 1.0 / (1.0 + g * (g + k))
        a2 = g * a1
        a3 = g * a2
        for c in range(x.shape[0]):
            v0 = x[c, start + i]
            v3 = v0 - state[c, 1]
            v1 = a1 * state[c, 0] + a2 * v3
            v2 = state[c, 1] + a2 * state[c, 0] + a3 * v3
            state[c, 0] = 2.0 * v1 - state[c, 0]
            state[c, 1] = 2.0 * v2 - state[c, 1]
            x[c, start + i] = (1.0 - wet) * v0 + wet * (m0 * v0 + m1 * v1 + m2 * v2)


def warm_up() -> None:
    """Compile (or load from the cache) every kernel, so that nobody waits for it while sound plays."""
    for n_channels in (1, 2):
        one = np.zeros((1, 5))
        steps = np.zeros(1, dtype=np.int64)
        run_chain(
            np.zeros((n_channels, CONTROL_FRAMES)), 0, np.zeros((1, n_channels, 2)), one, one.copy(),
            np.zeros((1, 3, 5)), one.copy(), steps, np.zeros(1), np.zeros(1), steps.copy(), steps.copy(),
            np.zeros(2), 0.1,
        )
