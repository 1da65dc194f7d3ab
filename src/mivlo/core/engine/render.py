"""Rendering to files: one track through its ledger, or the mix; and the replay of a logged play."""

from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor

import numpy as np

from mivlo.core.engine.mix import Mix
from mivlo.core.engine.player import OpenSource, Player, on_grid
from mivlo.core.engine.source import Source
from mivlo.core.kernels import CONTROL_FRAMES
from mivlo.core.model import LedgerEntry, Track
from mivlo.core.moves import Move
from mivlo.core.units import Array

__all__ = ["render_mix", "render_moves", "render_track", "replay"]

BLOCK_FRAMES = 1 << 15
WORKERS = 2


def render_track(
    mix: Mix, track_id: str, open_source: OpenSource, *, start: int, end: int, sample_rate_hz: float
) -> Iterator[Array]:
    """Yield (channels, n) blocks of one track of a mix behind its ledger and before its fader, from session frame
    start to end.

    Stages start at rest after the engine's pre-roll, as in live play from there; tails end where the range ends.
    Other tracks are read only where a move listens to them.
    """
    straight = _straight(mix).model_copy(update={"alone_track_id": track_id})
    player = Player(straight, open_source, start_frame=start, sample_rate_hz=sample_rate_hz, live=False)
    strip = player.strip(track_id)
    position = on_grid(start)
    skip = start - position
    while position + skip < end:
        until = min(position + BLOCK_FRAMES, position + -(-(end - position) // CONTROL_FRAMES) * CONTROL_FRAMES)
        block = strip.read(position, until - position)
        strip.forget_before(until)
        yield block[:, skip : min(until, end) - position]
        position, skip = until, 0


def render_moves(
    source: Source, moves: Sequence[Move], *, sample_rate_hz: float, amount: float = 100.0
) -> Iterator[Array]:  # fmt: skip
    """Yield (channels, n) blocks of a whole source through moves, at an amount in per cent."""
    ledger = tuple(LedgerEntry(id=str(index), move=move) for index, move in enumerate(moves))
    mix = Mix(tracks=(Track(id="file", audio_id="file", ledger=ledger, amount=amount),))
    return render_track(mix, "file", lambda _: source, start=0, end=source.n_frames, sample_rate_hz=sample_rate_hz)


def render_mix(mix: Mix, open_source: OpenSource, *, start: int, end: int, sample_rate_hz: float) -> Iterator[Array]:
    """Yield (2, n) blocks of the mix from session frame start to end, without wrapping at the loop."""
    with ThreadPoolExecutor(WORKERS) as workers:
        player = Player(
            _straight(mix), open_source, start_frame=start, sample_rate_hz=sample_rate_hz, live=False, workers=workers
        )
        player.render(start - player.position)
        for position in range(start, end, BLOCK_FRAMES):
            yield player.render(min(BLOCK_FRAMES, end - position))


def _straight(mix: Mix) -> Mix:
    return mix.model_copy(update={"loop_start_frame": None, "loop_end_frame": None})


def replay(
    mix: Mix,
    changes: Sequence[tuple[int, Mix]],
    open_source: OpenSource,
    *,
    start_frame: int,
    n_frames: int,
    sample_rate_hz: float,
) -> Array:
    """Return (2, n_frames): what a live play gave that began with a mix and met changes at logged stream frames."""
    player = Player(mix, open_source, start_frame=start_frame, sample_rate_hz=sample_rate_hz)
    parts = []
    for frame, changed in changes:
        # Changes act on what is rendered next; what is rendered leaves the guard one control step later.
        while player.frame < frame:
            parts.append(player.render_steps(frame - player.frame))
        player.apply(changed)
    done = sum(part.shape[1] for part in parts)
    return np.concatenate([*parts, player.render(max(n_frames - done, 0))], axis=1)[:, :n_frames]
