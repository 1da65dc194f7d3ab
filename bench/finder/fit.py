"""Fits the finder's weights on planted faults, and writes src/mivlo/core/finder/weights.npz.

    .venv/bin/pip install torch==2.13.0     (a tool of development only: not needed to run or to test)
    .venv/bin/python bench/finder/fit.py --folder /tmp/corpus [--phrases 3900] [--variants 6] [--fits 2]
    .venv/bin/python bench/finder/fit.py --folder /tmp/corpus --go-on     (each fit from one of the weights that there
    are)
    .venv/bin/python bench/finder/fit.py --folder /tmp/corpus --beside    (beside the fits that there are)

Wants Debian's fluidsynth, wildmidi, stk, hydrogen-drumkits, sonic-pi-samples and the packages of the training banks
(finder/phrases.py): sounds to learn from, of which nothing is shipped. The folder keeps phrases and cues.
"""

import argparse
import multiprocessing
import sys
import time
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1]))

import numpy as np
import torch
from scipy.optimize import minimize
from scipy.special import expit, logit
from torch.optim.swa_utils import AveragedModel, get_ema_multi_avg_fn

from finder.cases import Case, load_cases
from finder.faults import hits
from finder.network import TapNetwork
from mivlo.core.finder.level_map import BANDS_PER_OCTAVE, LOWEST_HZ
from mivlo.core.finder.network import FURTHEST, LAYERS, OUTPUTS
from mivlo.core.finder.places import SHAPES, places
from mivlo.core.units import Array

WEIGHTS = Path(__file__).parents[2] / "src" / "mivlo" / "core" / "finder" / "weights.npz"
BATCH, EPOCHS, RATE = 16, 10, 2e-3
GO_ON_EPOCHS, GO_ON_RATE = 5, 1e-3
# Spread of what is added to every cue, to a cue all over a file, and the share of cues that a file goes without:
# other makers'
# sounds are not these.
NOISE, OFFSETS, DROPPED = 0.15, 0.2, 0.05
DECAY, KEPT = 5e-2, 0.998  # of the weights at each step; of the running mean of them, which is what is told
LINE_SPREAD, WIDE_SPREAD = 1.3, 7.0  # bands: how sharply the truth is drawn
CLEAN_SHARE = 0.5
VALIDATION_EVERY = 10  # phrases: every tenth is held back


def targets(case: Case, n_bands: int) -> tuple[Array, Array]:
    """Return (outputs, bands) of truth and of weights."""
    truth, weight = (
        np.zeros((len(OUTPUTS), n_bands), dtype=np.float32),
        np.ones((len(OUTPUTS), n_bands), dtype=np.float32),
    )
    weight[OUTPUTS.index("loud-only")] = 0.0
    bands = np.arange(n_bands)
    for fault in case.item.faults:
        at = np.log2(fault.hz / LOWEST_HZ) * BANDS_PER_OCTAVE
        line = "line" in fault.kind
        row = OUTPUTS.index("line" if line else fault.kind)
        shape = np.exp(-0.5 * ((bands - at) / (LINE_SPREAD if line else WIDE_SPREAD)) ** 2)
        truth[row] = np.maximum(truth[row], shape)
        near = np.abs(bands - at) < (3 if line else 12)
        truth[OUTPUTS.index("loud-only"), near] = fault.loud_only
        weight[OUTPUTS.index("loud-only"), near] = 2.0 if fault.loud_only else 0.6  # as much of both in all
    for name, extra in (("line", 8.0), ("hump", 3.0), ("harsh", 3.0)):
        row = OUTPUTS.index(name)
        weight[row] *= 1.0 + extra * truth[row]
    return np.asarray(truth), np.asarray(weight)


def fit(
    x: torch.Tensor, truth: torch.Tensor, weight: torch.Tensor, held: np.ndarray, seed: int,
    before: dict[str, torch.Tensor] | None,
) -> TapNetwork:  # fmt: skip
    """Return a network fitted to all files but those held back; their loss is printed. From scratch, or from what was
    before."""
    torch.manual_seed(seed)
    random = np.random.default_rng(seed)
    network = _network_like(before, x.shape[1])
    epochs, rate = EPOCHS, RATE
    if before is not None:
        network.load_state_dict(before)
        epochs, rate = GO_ON_EPOCHS, GO_ON_RATE
    mean_network = AveragedModel(network, multi_avg_fn=get_ema_multi_avg_fn(KEPT))
    optimiser = torch.optim.AdamW(network.parameters(), lr=rate, weight_decay=DECAY)
    used = np.flatnonzero(~held)
    schedule = torch.optim.lr_scheduler.OneCycleLR(optimiser, rate, total_steps=epochs * (len(used) // BATCH))
    loss_of = torch.nn.BCEWithLogitsLoss(reduction="none")
    for epoch in range(epochs):
        network.train()
        started, total = time.time(), 0.0
        order = random.permutation(used)
        for first in range(0, len(order) - BATCH + 1, BATCH):
            rows = torch.from_numpy(order[first : first + BATCH])
            shift = int(random.integers(-5, 6))
            batch = x[rows].float()
            batch = batch + NOISE * torch.randn_like(batch) + OFFSETS * torch.randn(BATCH, x.shape[1], 1)
            batch = batch * (torch.rand(BATCH, x.shape[1], 1) >= DROPPED)
            batch = batch.roll(shift, dims=2)
            loss = (loss_of(network(batch), truth[rows].roll(shift, dims=2)) * weight[rows].roll(shift, dims=2)).mean()
            optimiser.zero_grad()
            loss.backward()
            optimiser.step()
            schedule.step()
            mean_network.update_parameters(network)
            total += float(loss.detach())
        mean_network.eval()
        with torch.no_grad():
            rows = torch.from_numpy(np.flatnonzero(held))
            parts = [(loss_of(mean_network(x[r].float()), truth[r]) * weight[r]).mean() for r in torch.split(rows, 64)]
        mean = total / (len(order) // BATCH)
        print(
            f"fit {seed}, epoch {epoch}: {mean:.5f}, held back {float(torch.stack(parts).mean()):.5f}, "
            f"{time.time() - started:.0f} s",
            flush=True,
        )
    usual: TapNetwork = mean_network.module
    return usual


def calibration(log_odds: Array, cases: list[Case]) -> Array:
    """Return (outputs, 2): slope and offset that turn the log odds of a place into those of its being a fault.

    Clean files count as if they were half of all: of what is fitted on they are fewer than of what somebody has.

    Source: J. Platt, "Probabilistic outputs for support vector machines", 1999 (from memory): a logistic fit on what
    was held back
    """
    found = {"loud-only": [1.0, 0.0]}
    clean = float(np.mean([not case.item.faults for case in cases]))
    for shape in SHAPES:
        values, truths, counts = [], [], []
        for of_file, case in zip(log_odds[:, OUTPUTS.index(shape)], cases, strict=True):
            planted = [fault for fault in case.item.faults if shape in fault.kind]
            listed = places(expit(of_file), shape)
            values += [float(logit(p)) for _, p in listed]
            truths += [
                any(hits(fault, LOWEST_HZ * 2.0 ** (band / BANDS_PER_OCTAVE)) for fault in planted)
                for band, _ in listed
            ]
            counts += [CLEAN_SHARE / clean if not case.item.faults else (1.0 - CLEAN_SHARE) / (1.0 - clean)] * len(
                listed
            )
        x, y, weight = np.array(values), np.array(truths, dtype=float), np.array(counts)

        def misfit(ab: Array, x: Array = x, y: Array = y, weight: Array = weight) -> float:
            z = ab[0] * x + ab[1]
            return float(np.average(np.logaddexp(0.0, z) - y * z, weights=weight))

        found[shape] = minimize(misfit, [1.0, -1.0]).x.tolist()
        print(f"{shape}: {len(x)} places, {y.mean():.2f} of them faults, slope and offset {np.round(found[shape], 2)}")
    return np.array([found[name] for name in OUTPUTS])


def _of_fit(weights: dict[str, Array], seed: int) -> dict[str, torch.Tensor] | None:
    """Return the parameters of one fit of a file of weights, by their names; None where there are none."""
    own = {name.split(".", 1)[1]: part for name, part in weights.items() if name.startswith(f"{seed}.")}
    return {name: torch.from_numpy(part.astype(np.float32)) for name, part in own.items()} or None


def _network_like(parameters: dict[str, torch.Tensor] | None, n_cues: int) -> TapNetwork:
    """Return a network as wide as the one that some parameters are of."""
    return TapNetwork(n_cues, len(parameters["first.weight"])) if parameters else TapNetwork(n_cues)


def fit_one(seed: int) -> dict[str, Array]:
    """Return the parameters of one fit, by their names, in half precision; for a process of its own."""
    torch.set_num_threads(1)
    learnt, before = _LEARNT
    network = fit(*learnt, seed, _of_fit(before, seed % int(before["fits"])) if before else None)
    return {f"{seed}.{name}": part.numpy().astype(np.float16) for name, part in network.state_dict().items()}


# What the processes that fit share with the one that forked them off: files, truth, weights, what is held back;
# weights before.
_LEARNT: tuple[tuple[torch.Tensor, torch.Tensor, torch.Tensor, np.ndarray], dict[str, Array]]


def main() -> None:
    """Fit and write."""
    global _LEARNT  # noqa: PLW0603 - set once, before the processes are forked off
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--folder", type=Path, required=True)
    parser.add_argument("--phrases", type=int, default=3900)
    parser.add_argument(
        "--variants", type=int, nargs="+", default=[6], help="files of each phrase; each number draws anew"
    )
    parser.add_argument("--fits", type=int, default=2)
    parser.add_argument("--go-on", action="store_true")
    parser.add_argument("--beside", action="store_true", help="the fits that there are stay, beside the new ones")
    parser.add_argument("--out", type=Path, default=WEIGHTS)
    options = parser.parse_args()
    cases = [case for n in options.variants for case in load_cases("training", options.phrases, n, options.folder)]
    values = np.stack([case.cues for case in cases])
    some = values[:: max(len(values) // 400, 1)].astype(np.float32)
    mean, spread = some.mean(axis=(0, 2)), some.std(axis=(0, 2)) + 1e-3
    n_kept, n_fits, before = 0, options.fits, dict[str, Array]()
    if options.go_on or options.beside:
        with np.load(WEIGHTS) as stored_before:
            before = dict(stored_before)
        assert tuple(before["names"]) == cases[0].names, (
            "the weights that there are know other cues: fit all from scratch"
        )
        mean, spread = before["mean"], before["spread"]
        n_fits = int(before["fits"]) if options.go_on else n_fits
        n_kept = int(before["fits"]) if options.beside else 0
    n_bands = values.shape[2]
    for row in range(len(values)):
        values[row] = np.clip((values[row] - mean[:, None]) / spread[:, None], -FURTHEST, FURTHEST)
    truths = [targets(case, n_bands) for case in cases]
    held = np.array([int(case.item.name.split("-")[1]) % VALIDATION_EVERY == 0 for case in cases])
    x, truth, weight = (
        torch.from_numpy(part) for part in (values, *(np.stack(part) for part in zip(*truths, strict=True)))
    )
    seeds = range(n_kept, n_kept + n_fits)
    stored: dict[str, Array] = {
        "mean": mean,
        "spread": spread,
        "fits": np.array(seeds.stop),
        "names": np.array(cases[0].names),
    }
    stored |= {name: part for name, part in before.items() if n_kept and "." in name}
    _LEARNT = ((x, truth, weight, held), before if options.go_on else {})
    with ProcessPoolExecutor(2, multiprocessing.get_context("fork")) as pool:
        for part in pool.map(fit_one, seeds):
            stored |= part
    fitted = [_of_fit(stored, seed) or {} for seed in range(seeds.stop)]
    networks = [_network_like(one, x.shape[1]) for one in fitted]
    for one, network in zip(fitted, networks, strict=True):
        network.load_state_dict(one)
        network.eval()
    with torch.no_grad():
        rows = torch.from_numpy(np.flatnonzero(held))
        odds = torch.cat(
            [torch.stack([one(x[r].float()) for one in networks]).mean(dim=0) for r in torch.split(rows, 64)]
        )
    stored["calibration"] = calibration(odds.numpy(), [cases[int(row)] for row in rows])
    assert all(f"0.layers.{number}.weight" in stored for number in range(len(LAYERS)))
    np.savez_compressed(options.out, allow_pickle=False, **stored)


if __name__ == "__main__":
    main()
