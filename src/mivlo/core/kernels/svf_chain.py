"""The loop that runs a chain of state-variable sections over a signal, gliding where figures move."""

from numba import njit

from mivlo.core.kernels import CONTROL_FRAMES

__all__ = ["run_chain"]

# `contract` lets the compiler fuse a product and a sum: faster, and the same result for the same samples wherever
# a block begins, since every block begins and ends on the grid.
FUSED = {"contract"}
INAUDIBLE = 1e-40  # states below it are dropped: keeps a fading filter out of the slow denormal numbers


@njit(cache=True, nogil=True, fastmath=FUSED, error_model="numpy")
def run_chain(
    x, state, lanes, now, then, stages, target, left, wet_now, wet_then, wet_step, wet_goal, wet_curve, pole
):  # fmt: skip
    """Filter x (channels, n) float64 C-order in place; n is a multiple of CONTROL_FRAMES.

    All other arrays are the chain's own and are updated: state (sections, channels, 2); lanes (sections,) int64:
    0 every channel, 1 left, 2 right, 3 mid, 4 side (x of two channels only); now, then, target (sections, 5) =
    g, k, m0, m1, m2; stages (sections, 3, 5); left, wet_step, wet_goal (sections,) int64; wet_now, wet_then
    (sections,). Callers zero `state` of a new section.
    """
    n = x.shape[1]
    for s in range(state.shape[0]):
        done = 0
        while done < n:
            if left[s] == 0 and wet_step[s] == wet_goal[s]:
                # Nothing moves any more: the knot before may still glide into this stretch's values.
                _next_knot(s, now, then, stages, target, left, wet_now, wet_then, wet_step, wet_goal, wet_curve, pole)
                if not _moves(s, now, then, wet_now, wet_then):
                    _run_lanes(x, done, n - done, lanes[s], state[s], now[s], then[s], wet_now[s], wet_then[s], False)
                    break
            else:
                _next_knot(s, now, then, stages, target, left, wet_now, wet_then, wet_step, wet_goal, wet_curve, pole)
            moves = _moves(s, now, then, wet_now, wet_then)
            _run_lanes(x, done, CONTROL_FRAMES, lanes[s], state[s], now[s], then[s], wet_now[s], wet_then[s], moves)
            done += CONTROL_FRAMES


@njit(cache=True, nogil=True)
def _moves(s, now, then, wet_now, wet_then):
    """Tell whether section s glides between its two knots."""
    moving = wet_now[s] != wet_then[s]
    for j in range(5):
        moving = moving or now[s, j] != then[s, j]
    return moving


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


@njit(cache=True, nogil=True, fastmath=FUSED, error_model="numpy")
def _run_lanes(x, start, count, lane, state, now, then, wet_now, wet_then, moves):
    """Run one section over the channel, or the sum or difference of channels, that it acts on."""
    end = start + count
    if lane <= 2:
        for c in range(x.shape[0]):
            if lane == 0 or lane == c + 1:
                _run_row(x[c, start:end], state[c], now, then, wet_now, wet_then, moves)
        return
    sign = 1.0 if lane == 3 else -1.0
    before = 0.5 * (x[0, start:end] + sign * x[1, start:end])
    after = before.copy()
    _run_row(after, state[0], now, then, wet_now, wet_then, moves)
    for i in range(count):
        # Added as a difference: what the section leaves alone stays the same to the bit.
        difference = after[i] - before[i]
        x[0, start + i] += difference
        x[1, start + i] += sign * difference


@njit(cache=True, nogil=True, fastmath=FUSED, error_model="numpy")
def _run_row(row, state, now, then, wet_now, wet_then, moves):
    if not moves and wet_now == 1.0:
        _run_steady(row, state, now)
        return
    for start in range(0, row.shape[0], CONTROL_FRAMES):
        for i in range(2):
            if abs(state[i]) < INAUDIBLE:
                state[i] = 0.0
        step = row[start : start + CONTROL_FRAMES]
        if moves:
            _run_moving(step, state, now, then, wet_now, wet_then)
        else:
            _run_partly(step, state, now, wet_now)


@njit(cache=True, nogil=True, fastmath=FUSED, error_model="numpy")
def _run_steady(row, state, coefs):
    """Run one section whose figures stand still, four samples at a time: the states wait for each other once in
    four."""
    g, k, m0, m1, m2 = coefs[0], coefs[1], coefs[2], coefs[3], coefs[4]
    a1 = 1.0 / (1.0 + g * (g + k))
    a2 = g * a1
    a3 = g * a2
    # One sample as a state-space step: s' = A·s + b·u, y = c·s + d·u, the powers of A below by hand.
    p11, p12, p21, p22 = 2.0 * a1 - 1.0, -2.0 * a2, 2.0 * a2, 1.0 - 2.0 * a3
    b1, b2 = 2.0 * a2, 2.0 * a3
    r00, r01 = m1 * a1 + m2 * a2, m2 * (1.0 - a3) - m1 * a2
    r10, r11 = r00 * p11 + r01 * p21, r00 * p12 + r01 * p22
    r20, r21 = r10 * p11 + r11 * p21, r10 * p12 + r11 * p22
    r30, r31 = r20 * p11 + r21 * p21, r20 * p12 + r21 * p22
    h0, h1, h2, h3 = m0 + m1 * a2 + m2 * a3, r00 * b1 + r01 * b2, r10 * b1 + r11 * b2, r20 * b1 + r21 * b2
    e3, f3 = b1, b2
    e2, f2 = p11 * e3 + p12 * f3, p21 * e3 + p22 * f3
    e1, f1 = p11 * e2 + p12 * f2, p21 * e2 + p22 * f2
    e0, f0 = p11 * e1 + p12 * f1, p21 * e1 + p22 * f1
    q11, q12, q21, q22 = p11 * p11 + p12 * p21, p11 * p12 + p12 * p22, p21 * p11 + p22 * p21, p21 * p12 + p22 * p22
    w11, w12, w21, w22 = q11 * q11 + q12 * q21, q11 * q12 + q12 * q22, q21 * q11 + q22 * q21, q21 * q12 + q22 * q22
    s1, s2 = state[0], state[1]
    for step in range(0, row.shape[0], CONTROL_FRAMES):
        s1 = 0.0 if abs(s1) < INAUDIBLE else s1
        s2 = 0.0 if abs(s2) < INAUDIBLE else s2
        for i in range(step, step + CONTROL_FRAMES, 4):
            u0, u1, u2, u3 = row[i], row[i + 1], row[i + 2], row[i + 3]
            row[i] = h0 * u0 + (r00 * s1 + r01 * s2)
            row[i + 1] = h0 * u1 + h1 * u0 + (r10 * s1 + r11 * s2)
            row[i + 2] = h0 * u2 + h1 * u1 + h2 * u0 + (r20 * s1 + r21 * s2)
            row[i + 3] = h0 * u3 + h1 * u2 + h2 * u1 + h3 * u0 + (r30 * s1 + r31 * s2)
            into1 = e0 * u0 + e1 * u1 + e2 * u2 + e3 * u3
            into2 = f0 * u0 + f1 * u1 + f2 * u2 + f3 * u3
            s1, s2 = into1 + (w11 * s1 + w12 * s2), into2 + (w21 * s1 + w22 * s2)
    state[0], state[1] = s1, s2


@njit(cache=True, nogil=True, fastmath=FUSED, error_model="numpy")
def _run_partly(row, state, coefs, wet):
    """Run one section that is switched off (only its state runs) or rests between off and on."""
    g, k, m0, m1, m2 = coefs[0], coefs[1], coefs[2], coefs[3], coefs[4]
    a1 = 1.0 / (1.0 + g * (g + k))
    a2 = g * a1
    a3 = g * a2
    s1, s2 = state[0], state[1]
    for i in range(row.shape[0]):
        v0 = row[i]
        v3 = v0 - s2
        v1 = a1 * s1 + a2 * v3
        v2 = s2 + a2 * s1 + a3 * v3
        s1 = 2.0 * v1 - s1
        s2 = 2.0 * v2 - s2
        if wet != 0.0:
            row[i] = (1.0 - wet) * v0 + wet * (m0 * v0 + m1 * v1 + m2 * v2)
    state[0], state[1] = s1, s2


@njit(cache=True, nogil=True, fastmath=FUSED, error_model="numpy")
def _run_moving(row, state, now, then, wet_now, wet_then):
    """Run one section whose figures glide from one knot to the next."""
    s1, s2 = state[0], state[1]
    for i in range(row.shape[0]):
        t = i / CONTROL_FRAMES
        g = now[0] + t * (then[0] - now[0])
        k = now[1] + t * (then[1] - now[1])
        m0 = now[2] + t * (then[2] - now[2])
        m1 = now[3] + t * (then[3] - now[3])
        m2 = now[4] + t * (then[4] - now[4])
        wet = wet_now + t * (wet_then - wet_now)
        a1 = 1.0 / (1.0 + g * (g + k))
        a2 = g * a1
        a3 = g * a2
        v0 = row[i]
        v3 = v0 - s2
        v1 = a1 * s1 + a2 * v3
        v2 = s2 + a2 * s1 + a3 * v3
        s1 = 2.0 * v1 - s1
        s2 = 2.0 * v2 - s2
        row[i] = (1.0 - wet) * v0 + wet * (m0 * v0 + m1 * v1 + m2 * v2)
    state[0], state[1] = s1, s2
