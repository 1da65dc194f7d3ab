"""Rendering to files: one track through its ledger, or the mix; and the replay of a logged play."""

from collections.abc import Iterator, Sequence

import numpy as np

from mivlo.core.engine.mix import Mix
from mivlo.core.engine.player import OpenSource, Player, preroll_frames
from mivlo.core.engine.source import Source
from mivlo.core.filters.biquad import Biquad
from mivlo.core.processors.chain import Chain, KeyedSection
from mivlo.core.units import Array

__all__ = ["render_mix", "render_track", "replay"]

BLOCK_FRAMES = 1 << 14


def render_track(
    source: Source, sections: Sequence[Biquad], *, start: int, end: int, sample_rate_hz: float
) -> Iterator[Array]:
    """Yield (channels, n) blocks of a source through sections, from frame start to end of the source.

    Filters start at rest after the engine's pre-roll, as in live play from there; tails end where the range ends.
    """
    keyed = [KeyedSection(str(index), section) for index, section in enumerate(sections)]
    chain = Chain(source.n_channels, sample_rate_hz, keyed)
    position = start - preroll_frames(max(start, 0), sample_rate_hz=sample_rate_hz)
    while position < end:
        until = min(position + BLOCK_FRAMES, end if position >= start else start)
        x = source.read(position, until - position)
        chain.process(x)
        if position >= start:
            yield x
        position = until


def render_mix(
    mix: Mix, open_source: OpenSource, *, start: int, end: int, sample_rate_hz: float
) -> Iterator[Array]:
    """Yield (2, n) blocks of the mix from session frame start to end, without wrapping at the loop."""
    straight = mix.model_copy(update={"loop_start_frame": None, "loop_end_frame": None})
    player = Player(straight, open_source, start_frame=start, sample_rate_hz=sample_rate_hz)
    skip = player.position
    player.render(start - skip)
    for position in range(start, end, BLOCK_FRAMES):
        yield player.render(min(BLOCK_FRAMES, end - position))


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
