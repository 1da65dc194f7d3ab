"""Changes that act in sound that was rendered and handed on, but not played yet.

A change is taken back to a frame that whoever plays has certainly not come to; what was handed on from there is
rendered anew and exchanged. Where that came too late, all of it is undone, and the change is made behind what is held
there.
"""

from dataclasses import dataclass

from mivlo.core.engine.mix import Mix, reshapes
from mivlo.core.engine.player import Player
from mivlo.core.kernels import CONTROL_FRAMES

__all__ = ["Made", "Revising"]

_BLOCK_FRAMES = 4_096


@dataclass(frozen=True, slots=True)
class Made:
    """A change as it was made: all that is heard from a stream frame on. What had been made for later is void."""

    frame: int
    mix: Mix


class Revising:
    """Makes the changes of one play, and undoes those that came too late."""

    def __init__(self, player: Player, mix: Mix) -> None:
        self._player = player
        self._made = [Made(0, mix)]
        self._exchanges: list[tuple[int, list[Made]]] = []  # that may still be refused: where, and what was made before

    @property
    def mix(self) -> Mix:
        """Return what is heard in the end."""
        return self._made[-1].mix

    def change(self, mix: Mix, *, from_frame: int) -> Made:
        """Glide to another mix from a stream frame on, or from somewhat later.

        One by which the sound is put together in another way acts on what is rendered next.
        """
        end = self._player.frame
        if not reshapes(self.mix, mix):
            # Behind the change before it, and behind where the sound was put together anew: so it can be undone alone.
            earliest = max(self._player.fixed_frames, self._made[-1].frame) + CONTROL_FRAMES
            self._player.take_back(max(from_frame, earliest))
        made = Made(self._player.frame, mix)
        if made.frame < end:
            self._exchanges.append((made.frame, self._made))
        self._made = [*(one for one in self._made if one.frame <= made.frame), made]
        self._player.apply(mix)
        return made

    @property
    def n_open(self) -> int:
        """Return how many exchanges may still be refused; while there are any, nothing is to be put together anew."""
        return len(self._exchanges)

    def n_open_before(self, frame: int) -> int:
        """Return how many open exchanges came before the one at a frame: where that is refused, they were in time."""
        return next((index for index, one in enumerate(self._exchanges) if one[0] == frame), 0)

    def accept(self, n_exchanges: int) -> None:
        """Take note of how many of the open exchanges, the oldest first, were in time."""
        self._exchanges = self._exchanges[n_exchanges:]

    def forget_before(self, frame: int) -> None:
        """Forget the changes that no replay from a stream frame on needs."""
        first = min([frame, *(at for at, _ in self._exchanges)])
        self._made = self._made[max((index for index, one in enumerate(self._made) if one.frame <= first), default=0) :]

    def refuse(self, frame: int, *, held_until: int) -> list[Made]:
        """Undo an exchange at a frame, and all later changes; make the newest behind what is held.

        Returns all that is true from before that frame on, to be told anew.
        """
        newest = self.mix
        at, made = next((one for one in self._exchanges if one[0] == frame), (frame, self._made))
        self._exchanges = []
        back_at = self._player.take_back(at - CONTROL_FRAMES)
        again = [one for one in made if one.frame > back_at]
        tap, self._player.tap = self._player.tap, None
        for one in again:
            self._render_until(one.frame)
            self._player.apply(one.mix)
        self._render_until(held_until + CONTROL_FRAMES)  # the guard holds a step back
        self._player.tap = tap
        self._made = [one for one in made if one.frame <= self._player.frame]
        due = [one for one in self._made if one.frame <= at - CONTROL_FRAMES][-1:] + again
        return [*due, self.change(newest, from_frame=self._player.frame)]

    def _render_until(self, frame: int) -> None:
        while self._player.frame < frame:
            self._player.render_steps(min(frame - self._player.frame, _BLOCK_FRAMES))
