"""The round of a session of files: what is to be judged over all of them, first what is heard in the mix."""

from collections.abc import Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from mivlo.core.audiofile import FileSource, ImportLimits, inspect_audio, open_checked
from mivlo.core.cellar import CellarCut, CellarTrack, LowEnd, clear_the_cellar, low_end_of
from mivlo.core.ensemble.clashes import Clash, find_clashes
from mivlo.core.ensemble.describe import as_plain as clash_as_plain
from mivlo.core.ensemble.erb_map import ErbMap, erb_map, with_hop
from mivlo.core.ensemble.in_mix import FaultPowers, InMix, fault_powers, in_mix
from mivlo.core.ensemble.least_cut import MOST_MOVES, Plan, candidates_of, plan_of, scene_of
from mivlo.core.ensemble.listening import Heard, MixedTrack, full_scale_db_spl, hear, sampled
from mivlo.core.ensemble.right_of_way import first_order
from mivlo.core.ensemble.yielding import Contender, Region, mid_share_of, yield_move
from mivlo.core.errors import ParameterError
from mivlo.core.finder.stretch import Findings, Suspect
from mivlo.core.finder.suspects import find
from mivlo.core.moves import Move
from mivlo.core.roles import Role
from mivlo.core.round.order import fault_of, weight_of

__all__ = ["RoundItem", "RoundOfFiles", "as_plain", "round_of_files"]

WORKERS, LONGEST_ID = 2, 64


@dataclass(frozen=True, slots=True)
class RoundItem:
    """A suspect of a track, by the track's number, and how it is heard among all."""

    track: int
    suspect: Suspect
    in_mix: InMix

    @property
    def weight(self) -> float:
        """Return where it stands in the round."""
        return weight_of(self.suspect.confidence, self.in_mix.change_db, self.in_mix.in_mix_db)


@dataclass(frozen=True, slots=True)
class RoundOfFiles:
    """All that a session of files has to be judged, strongest first; `moves` are those of the plan, by its steps."""

    names: tuple[str, ...]
    items: tuple[RoundItem, ...]
    cellar: tuple[CellarCut, ...]
    clashes: tuple[Clash, ...]
    order: tuple[int, ...]
    plan: Plan
    moves: tuple[Move, ...]


@dataclass(frozen=True, slots=True)
class _HeardFile:
    """What one file gives by itself."""

    findings: Findings
    power: ErbMap
    faults: list[FaultPowers]
    low_end: LowEnd
    rate: int


def round_of_files(
    files: Sequence[Path], roles: Sequence[Role | None], *, top: int | None = None, most: int = MOST_MOVES
) -> RoundOfFiles:  # fmt: skip
    """Return the round of tracks that start together, all faders at 0 dB.

    Parameters
    ----------
    roles : of each file; None where it is not known
    top : so many suspects at most

    Raises
    ------
    ParameterError: no file
    AudioFileError: what cannot be read, with its reason
    """
    if not files:
        raise ParameterError("no file was given: give the tracks of a session")
    infos = [inspect_audio(file, limits=ImportLimits(), name=str(file)) for file in files]
    longest_s = max(info.n_frames / info.sample_rate_hz for info in infos)
    with ProcessPoolExecutor(min(WORKERS, len(files))) as pool:
        heard_files = list(pool.map(_hear_file, files, roles, [longest_s] * len(files)))
    hop_s, rate = heard_files[0].power.hop_s, heard_files[0].rate
    tracks = sampled([MixedTrack(with_hop(one.power, hop_s)) for one in heard_files])
    full_scale_db = full_scale_db_spl(tracks)
    items = [
        RoundItem(number, suspect, _in_mix(tracks, number, powers, one, full_scale_db))
        for number, one in enumerate(heard_files)
        for suspect, powers in zip(one.findings.suspects, one.faults, strict=True)
    ]
    items.sort(key=lambda item: -item.weight)
    heard = hear(tracks, full_scale_db=full_scale_db)
    clashes, order = find_clashes(heard), first_order(roles)
    plan, moves = _planned(files, roles, tracks, heard, clashes, order, full_scale_db, most)
    low_ends = [
        CellarTrack(str(file), one.low_end, role or "other", 0.0)
        for file, one, role in zip(files, heard_files, roles, strict=True)
        if one.rate == rate
    ]
    cellar = clear_the_cellar(low_ends, sample_rate_hz=rate)
    return RoundOfFiles(
        tuple(map(str, files)), tuple(items[:top]), cellar.tracks, tuple(clashes), tuple(order), plan, tuple(moves)
    )


def _hear_file(file: Path, role: Role | None, session_s: float) -> _HeardFile:
    rate, source = _read(file)
    n_frames = source.n_frames
    findings = find(source, start=0, end=n_frames, sample_rate_hz=rate, role=role)
    power = erb_map(source, start=0, end=n_frames, sample_rate_hz=rate)
    faults = [fault_of(suspect, suspect.excess_db) for suspect in findings.suspects]
    powers = fault_powers(source, faults, MixedTrack(power), start=0, sample_rate_hz=rate)
    end_frame = round(session_s * rate)
    low = low_end_of(source, start_frame=0, role=role or "other", end_frame=end_frame, sample_rate_hz=rate)
    return _HeardFile(findings, power, powers, low, rate)


def _read(file: Path) -> tuple[int, FileSource]:
    info, source = open_checked(file, limits=ImportLimits(), name=str(file))
    return info.sample_rate_hz, source


def _in_mix(
    tracks: list[MixedTrack], own: int, powers: FaultPowers, heard_file: _HeardFile, full_scale_db: float
) -> InMix:  # fmt: skip
    """Return how a fault is heard; its frames are those of its own file's map, which may have another rate."""
    frames = np.round((powers.frames + 0.5) * heard_file.power.hop_s / tracks[own].heard.hop_s - 0.5).astype(int)
    there = np.clip(frames, 0, tracks[own].heard.power.shape[1] - 1)
    moved = FaultPowers(powers.fault, there, powers.removed)
    return in_mix(tracks, own, moved, full_scale_db=full_scale_db, hop_s=tracks[own].heard.hop_s)


def _planned(
    files: Sequence[Path], roles: Sequence[Role | None], tracks: list[MixedTrack], heard: Heard,
    clashes: Sequence[Clash], order: Sequence[int], full_scale_db: float, most: int,
) -> tuple[Plan, list[Move]]:  # fmt: skip
    """Return the least-cut plan, and its moves."""
    firsts = [None if one.by is None else min(one.hidden, one.by, key=order.index) for one in clashes]
    candidates = candidates_of(clashes, order, roles, firsts=firsts)
    if not candidates:
        return Plan(()), []
    known: dict[int, tuple[int, Contender]] = {}

    def contender(number: int) -> tuple[int, Contender]:
        if number not in known:
            rate, source = _read(files[number])
            known[number] = rate, Contender(number, files[number].name[:LONGEST_ID], source, 0.0, roles[number])
        return known[number]

    shares = []
    for one in candidates:
        share = None
        if roles[one.yielding] == "full backing":
            (_, front), (rate, yielding) = contender(one.front), contender(one.yielding)
            region = Region(one.low_hz, one.high_hz, one.times)
            share = mid_share_of(front, yielding, tracks[one.front], region, rate)
        shares.append(share)
    scene = scene_of(
        tracks, heard, candidates, order, full_scale_db=full_scale_db,
        reached=[1.0 if share is None else share for share in shares],
    )  # fmt: skip
    plan = plan_of(scene, candidates, most=most)
    moves = []
    for step in plan.steps:
        one = step.candidate
        rate, front = contender(one.front)
        mid = shares[candidates.index(one)] is not None
        region = Region(one.low_hz, one.high_hz, one.times)
        moves.append(
            yield_move(
                one.hz, one.octaves, one.depth_db, region, front=front, mid=mid, is_dynamic=True, sample_rate_hz=rate
            )
        )
    return plan, moves


def as_plain(found: RoundOfFiles) -> dict[str, Any]:
    """Return what `mivlo round --json` prints; times in seconds."""
    names = found.names
    steps = [
        {
            "track": names[step.candidate.yielding], "for": names[step.candidate.front],
            "low_hz": round(step.candidate.low_hz, 1), "high_hz": round(step.candidate.high_hz, 1),
            "move": move.model_dump(mode="json"),
        }
        for step, move in zip(found.plan.steps, found.moves, strict=True)
    ]  # fmt: skip
    curve = [
        {"moves": n, "gain_sone": round(step.gain_sone, 4), "cost_sone": round(step.cost_sone, 4)}
        for n, step in enumerate(found.plan.steps, 1)
    ]
    return {
        "items": [_item_as_plain(item, names) for item in found.items],
        "cellar": [
            {
                "track": cut.track_id, "lowest_note_hz": cut.lowest_note_hz,
                "safe": None if cut.safe is None else cut.safe.model_dump(mode="json"),
                "in_the_mix": None if cut.in_the_mix is None else cut.in_the_mix.model_dump(mode="json"),
            }
            for cut in found.cellar
        ],
        "clashes": [clash_as_plain(one, names, found.order) for one in found.clashes],
        "plan": {
            "moves": steps, "gain_sone": round(found.plan.gain_sone, 4), "cost_sone": round(found.plan.cost_sone, 4),
            "curve": curve,
        },
    }  # fmt: skip


def _item_as_plain(item: RoundItem, names: Sequence[str]) -> dict[str, Any]:
    suspect, heard = item.suspect, item.in_mix
    return {
        "track": names[item.track], "kind": suspect.kind, "hz": suspect.hz, "q": suspect.q,
        "excess_db": suspect.excess_db, "confidence": suspect.confidence, "in_mix_db": round(heard.in_mix_db, 2),
        "change_db": round(heard.change_db, 2), "heard": heard.heard,
        "covered_by": None if heard.covered_by is None else names[heard.covered_by],
        "times": [list(times) for times in suspect.times], "plainest": heard.plainest_s,
        "move": suspect.move.model_dump(mode="json"),
    }  # fmt: skip
