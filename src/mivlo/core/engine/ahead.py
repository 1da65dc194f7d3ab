"""Which strips are rendered further ahead than they are heard: those that nobody edits just now."""

import time
from collections.abc import Iterable, Mapping

from mivlo.core.engine.pipeline import FAR_AHEAD_FRAMES
from mivlo.core.engine.strip import Strip

__all__ = ["Ahead"]

EDITED_LATELY_S = 0.6  # since the last but one time


class Ahead:
    """Knows when each strip was edited, and renders one of the others at a time.

    What is rendered ahead is what would be rendered later, and a change takes it back.
    """

    def __init__(self) -> None:
        self._edited_s: dict[str, tuple[float, float]] = {}  # the last two times

    def note_edits(self, strip_ids: Iterable[str]) -> None:
        """Note that strips have been edited just now."""
        now_s = time.monotonic()
        for strip_id in strip_ids:
            self._edited_s[strip_id] = (self._edited_s.get(strip_id, (-1e9, -1e9))[1], now_s)

    def work(self, tracks: Mapping[str, Strip], until: int, *, needed_from: int) -> int:
        """Render some of one track ahead; returns how many frames. For a thread of its own.

        Tracks that nobody edits are rendered in large blocks from now on; of one that was edited once, the next edit is
        as far as any.
        """
        now_s = time.monotonic()
        for track_id, strip in tracks.items():
            strip.far_ahead = now_s - self._edited_s.get(track_id, (-1e9, -1e9))[0] >= EDITED_LATELY_S
        behind = [strip for strip in tracks.values() if strip.far_ahead and strip.ready_until < until]
        if not behind:
            return 0
        strip = min(behind, key=lambda one: one.ready_until)
        strip.extend((strip.ready_until // FAR_AHEAD_FRAMES + 1) * FAR_AHEAD_FRAMES)
        strip.forget_before(needed_from)
        return FAR_AHEAD_FRAMES
