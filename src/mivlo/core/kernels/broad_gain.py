"""The loops of a gain over all frequencies that moves, and of a copy beside the sound."""

import numpy as np
from numba import njit

from mivlo.core.kernels import SUBSTEP_FRAMES

__all__ = ["glided", "mixed", "scaled"]

NEPERS_PER_DB = np.log(10.0) / 20.0
ARRIVED = 1e-7


@njit(cache=True, nogil=True, error_model="numpy")
def scaled(x, gains_db):
    """Multiply x (channels, n) float64 in place by gains_db (n // SUBSTEP_FRAMES + 1,), told at the edges of the
    steps."""
    factor = np.exp(NEPERS_PER_DB * gains_db[0])
    for j in range(gains_db.shape[0] - 1):
        then = factor if gains_db[j + 1] == gains_db[j] else np.exp(NEPERS_PER_DB * gains_db[j + 1])
        if factor != 1.0 or then != 1.0:  # at rest it is left alone, to the bit
            slope = (then - factor) / SUBSTEP_FRAMES
            for c in range(x.shape[0]):
                row = x[c, j * SUBSTEP_FRAMES : (j + 1) * SUBSTEP_FRAMES]
                for i in range(SUBSTEP_FRAMES):
                    row[i] *= factor + slope * i
        factor = then


@njit(cache=True, nogil=True, error_model="numpy")
def glided(state, goal, pole, out):
    """Fill out (n,) with a figure on its way to its goal; state (1,) is the last one and is updated."""
    for j in range(out.shape[0]):
        state[0] += pole * (goal - state[0])
        if abs(state[0] - goal) < ARRIVED:
            state[0] = goal
        out[j] = state[0]


@njit(cache=True, nogil=True, error_model="numpy")
def mixed(x, copy, pole, weights):
    """Set x (channels, n) float64 to weights[0] of itself and weights[1] of a copy.

    weights (2, 4): three stages of each, which glide and are updated, and their goal.
    """
    for j in range(x.shape[1] // SUBSTEP_FRAMES):
        own, other = weights[0, 2], weights[1, 2]
        for k in range(2):
            if weights[k, 2] != weights[k, 3]:
                at = weights[k, 3]
                for stage in range(3):
                    weights[k, stage] += pole * (at - weights[k, stage])
                    at = weights[k, stage]
                if abs(at - weights[k, 3]) < ARRIVED:
                    weights[k, :3] = weights[k, 3]
        own_slope = (weights[0, 2] - own) / SUBSTEP_FRAMES
        other_slope = (weights[1, 2] - other) / SUBSTEP_FRAMES
        for c in range(x.shape[0]):
            row = x[c, j * SUBSTEP_FRAMES : (j + 1) * SUBSTEP_FRAMES]
            beside = copy[c, j * SUBSTEP_FRAMES : (j + 1) * SUBSTEP_FRAMES]
            for i in range(SUBSTEP_FRAMES):
                row[i] = (own + own_slope * i) * row[i] + (other + other_slope * i) * beside[i]
