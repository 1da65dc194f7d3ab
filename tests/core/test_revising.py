"""Changes taken back into sound that was handed on: what is heard is what would have been played all along."""

import numpy as np
import pytest

from mivlo.core.engine.mix import Mix, Probe
from mivlo.core.engine.player import Player
from mivlo.core.engine.render import replay
from mivlo.core.engine.revising import Revising
from mivlo.core.engine.source import ArraySource
from mivlo.core.model import Group, LedgerEntry, Send, Track
from mivlo.core.moves.bell import Bell
from mivlo.core.moves.dynamic_bell import DynamicBell
from mivlo.core.moves.low_cut import LowCut
from mivlo.core.moves.plane import Plane

RATE, CHUNK, AHEAD = 48_000, 512, 15_360
SOUNDS = {
    name: ArraySource(0.1 * np.random.default_rng(seed).standard_normal((channels, 4 * RATE)))
    for seed, (name, channels) in enumerate((("a", 2), ("b", 1), ("c", 1)))
}


def random_mix(random: np.random.Generator) -> Mix:
    """Return one of many mixes: figures, faders, mutes, moves, probes, keys, and ways that sound takes, come and go."""

    def some(*moves) -> tuple[LedgerEntry, ...]:
        return tuple(LedgerEntry(id=str(i), move=move) for i, move in enumerate(moves) if random.random() < 0.8)

    def gain() -> float:
        return float(random.choice([-6.0, 0.0, 3.0]))

    def sends(*targets: str) -> tuple[Send, ...]:
        return tuple(Send(to_id=target, level_db=gain()) for target in targets if random.random() < 0.5)

    bell = Bell(hz=float(random.uniform(200, 4_000)), gain_db=gain(), q=float(random.choice([1, 8])))
    duck = DynamicBell(hz=900, threshold_db=-60, depth_db=-9 + gain(), lookahead_ms=5,
                       listens_to=str(random.choice(["b", "h"])))  # fmt: skip
    tracks = (
        Track(id="a", audio_id="a", ledger=some(bell, duck), gain_db=gain(), mute=bool(random.random() < 0.2),
              sends=sends("g", "h")),
        Track(id="b", audio_id="b", ledger=some(LowCut(hz=90), bell), pan=gain() / 10, group_id="g",
              mute=bool(random.random() < 0.2)),
        Track(id="c", audio_id="c", ledger=some(Plane()), solo=gain() > 0.0, sends=sends("h"),
              group_id=random.choice([None, "g", "h"])),
        *(Track(id="d", audio_id=name, group_id="h") for name in random.choice(["a", "b", ""], 1) if name),
    )  # fmt: skip
    loud = random.random() < 0.3
    return Mix(
        tracks=tracks,
        groups=(
            Group(id="h", ledger=some(bell, duck), mute=bool(random.random() < 0.2), solo=bool(random.random() < 0.2)),
            Group(id="g", ledger=some(bell), gain_db=gain(), group_id=random.choice([None, "h"]), sends=sends("h")),
        ),
        master=Group(id="mix", ledger=some(Bell(hz=3_000, gain_db=gain()))),
        probe=Probe(track_id="a", hz=float(random.uniform(100, 2_000)), amount_db=24) if loud else None,
        match_db=-abs(gain()),
        dim=bool(random.random() < 0.2),
        pipe_hz=440.0 if random.random() < 0.2 else None,
    )


@pytest.mark.parametrize("seed", range(8))
@pytest.mark.parametrize("refusals", [0.0, 0.4])
def test_what_is_held_in_the_end_is_the_replay_of_what_was_told(seed, refusals):
    random = np.random.default_rng(seed)
    first = random_mix(random)
    player = Player(first, SOUNDS.__getitem__, start_frame=24_000, sample_rate_hz=RATE)
    revising = Revising(player, first)
    held = np.zeros((2, 0))
    played, told, taken_back, late = 0, [], 0, 0

    def tell(made) -> None:
        nonlocal told
        told = [*(one for one in told if one.frame <= made.frame), made]

    for _ in range(60):
        while held.shape[1] < played + AHEAD:
            held = np.concatenate([held, player.render(CHUNK)], axis=1)
        played += int(random.integers(1, 4)) * CHUNK - 37
        player.keep_from(played)
        revising.accept(revising.n_open)
        revising.forget_before(played)
        if random.random() < 0.7:
            end = player.frame
            made = revising.change(random_mix(random), from_frame=played + 700)
            tell(made)
            if made.frame < end:
                taken_back += 1
                if random.random() < refusals:  # it never arrives; more was rendered, and perhaps changed, meanwhile
                    player.render(CHUNK)
                    if random.random() < 0.5:
                        tell(revising.change(random_mix(random), from_frame=played + 900))
                    for again in revising.refuse(made.frame, held_until=held.shape[1]):
                        tell(again)
                    late += 1
            held = held[:, : player.frame - 64]
    changes = [(one.frame, one.mix) for one in told]
    again = replay(first, changes, SOUNDS.__getitem__, start_frame=24_000, n_frames=held.shape[1], sample_rate_hz=RATE)
    assert taken_back > 5
    assert late > 1 or not refusals
    wrong = np.flatnonzero(np.any(held != again, axis=0))
    assert not len(wrong), (wrong[0], changes)


def test_a_change_is_heard_from_the_frame_that_it_was_taken_back_to():
    mix = Mix(tracks=(Track(id="a", audio_id="a"),))
    player = Player(mix, SOUNDS.__getitem__, start_frame=0, sample_rate_hz=RATE)
    revising = Revising(player, mix)
    player.keep_from(0)
    whole = player.render(9_600)
    player.keep_from(2_000)
    quiet = mix.model_copy(update={"tracks": (mix.tracks[0].model_copy(update={"gain_db": -20.0}),)})
    made = revising.change(quiet, from_frame=3_000)
    assert 3_000 <= made.frame < 3_064  # the next control step
    exchanged = player.render(4_800)
    start = made.frame - 64
    assert np.array_equal(exchanged[:, :64], whole[:, start : start + 64])
    assert not np.array_equal(exchanged[:, 64:128], whole[:, start + 64 : start + 128])
    assert np.allclose(exchanged[:, 1_000:], 0.1 * whole[:, start + 1_000 : start + 4_800])
