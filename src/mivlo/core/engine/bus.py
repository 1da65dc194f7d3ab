"""What a group or the mix takes in: the sum of what comes by its ways in, with some of its past."""

from collections import deque
from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass

import numpy as np

from mivlo.core.engine.ramp import FADE_OUT, Ramp
from mivlo.core.engine.strip import BLOCK_GRID_FRAMES, MOST_PREROLL_S, Strip
from mivlo.core.engine.tape import Tape
from mivlo.core.model import Route
from mivlo.core.units import Array

__all__ = ["Bus", "Way"]


@dataclass(frozen=True, slots=True, eq=False)
class Way:
    """One way into a bus: a strip behind its fader, and with what gain it comes; 1 for a member."""

    key: tuple[str, str, bool]  # of the route
    strip: Strip
    gain: Ramp

    def is_silent_from(self, frame: int) -> bool:
        """Tell whether nothing comes by it from a frame on, as things stand."""
        return self.strip.silent_from(frame) or (self.gain.goal == 0.0 and self.gain.rests_at(frame))

    def read(self, frame: int, n_frames: int) -> Array:
        """Return (2, n_frames) of what comes by it."""
        y = self.strip.fader(frame, n_frames)
        gain = self.gain.take(frame, n_frames)
        if not (isinstance(gain, float) and gain == 1.0):
            y *= gain
        return y


@dataclass(frozen=True, slots=True, eq=False)
class _Before:
    """What came in until a frame, from which on there are other ways; what fades out is known from then on."""

    frame: int
    ways: Sequence[Way]
    tails: Sequence[tuple[int, Array]]


class Bus:
    """Sums its ways in the order of the stream; what was summed is kept for as long as a pre-roll reaches back."""

    def __init__(self, *, frame: int, sample_rate_hz: float) -> None:
        self.ways: Sequence[Way] = ()  # members before sends, in the order of ids: sums are then equal to the last bit
        self._tails: Sequence[tuple[int, Array]] = ()  # of ways that are gone: from which frame on, and (2, n) faded
        self._before: deque[_Before] = deque()
        self._tape = Tape(2, frame=frame)
        self._reach = round(MOST_PREROLL_S * sample_rate_hz) + 2 * BLOCK_GRID_FRAMES

    def fading(self, gone: Iterable[Way], *, frame: int) -> list[Array]:
        """Return (2, n) of each way that is not heard any longer from a frame on, as it fades out.

        To be asked before anything is changed, of all busses: with other ways, sound may take the opposite direction.
        """
        n_frames = len(FADE_OUT)
        return [way.read(frame, n_frames) * FADE_OUT for way in gone if not way.is_silent_from(frame)]

    def let_go(self, gone: Collection[Way], fading: Iterable[Array], *, frame: int) -> None:
        """Take ways away from a frame on, and let what was rendered of them fade out."""
        ways = [way for way in self.ways if way not in gone]
        self._change(ways, [*self._tails, *((frame, tail) for tail in fading)], frame=frame)

    def lead(self, wanted: Iterable[tuple[Route, Strip, float]], *, frame: int, starting: bool) -> bool:
        """Glide to other ways in, each with its strip and gain, from a frame on; returns whether anything changes.

        Those that are gone were let go.
        """
        known = {way.key: way for way in self.ways}
        goals = []
        for route, strip, gain in wanted:
            way = known.get(route.key)
            goals.append((way or Way(route.key, strip, Ramp(gain if starting else 0.0)), gain))
        is_new = len(goals) != len(known)
        if is_new:
            ways = sorted((way for way, _ in goals), key=lambda way: (way.key[2], way.key[0]))
            self._change(ways, self._tails, frame=frame)
        changed = is_new or any(way.gain.goal != gain for way, gain in goals)
        for way, gain in goals:
            way.gain.set_goal(gain, frame=frame)
        return changed or self._changed_at(frame)

    def take_back(self, frame: int) -> bool:
        """Undo what was changed of its ways later than a frame; returns whether anything was."""
        undone = False
        while self._before and self._before[-1].frame > frame:
            before = self._before.pop()
            self.ways, self._tails, undone = before.ways, before.tails, True
        return any([way.gain.take_back(frame) for way in self.ways]) or undone

    def read(self, frame: int, n_frames: int) -> Array:
        """Return (2, n_frames) from a frame on: summed anew where it was not before, silence before the first."""
        if frame + n_frames > self._tape.until:
            self._sum(frame + n_frames)
        return self._tape.read(frame, n_frames)

    def cut(self, frame: int) -> None:
        """Forget what was summed from a frame on."""
        self._tape.cut(frame)

    def forget_before(self, frame: int) -> None:
        """Let go of what no pre-roll from that frame on can reach, and of the way back to before it."""
        self._tape.forget_before(frame - self._reach)
        while self._before and self._before[0].frame <= frame:
            self._before.popleft()
        self._tails = [(at, tail) for at, tail in self._tails if at + tail.shape[1] > frame]

    def _change(self, ways: Sequence[Way], tails: Sequence[tuple[int, Array]], *, frame: int) -> None:
        self._before.append(_Before(frame, self.ways, self._tails))
        self.ways, self._tails = ways, tails

    def _changed_at(self, frame: int) -> bool:
        return bool(self._before) and self._before[-1].frame == frame

    def _sum(self, until: int) -> None:
        at = self._tape.until
        block = np.zeros((2, until - at))
        for way in self.ways:
            if way.is_silent_from(at):
                way.strip.extend(until)  # to be there at once when it is heard again
            else:
                block += way.read(at, until - at)
        for start, tail in self._tails:
            first, last = max(start, at), min(start + tail.shape[1], until)
            if first < last:
                block[:, first - at : last - at] += tail[:, first - start : last - start]
        self._tape.append(block)
