"""A whole client of the monitor's socket in a page of Python: plays a session as a page does, without its clock.

What it says and hears is docs/monitor.md; it knows nothing of ledgers, faders or level matches.
"""

import json
import struct
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from websockets.sync.client import connect

from mivlo.core.engine.mix import Mix

__all__ = ["MonitorClient", "Played"]

HEADER = struct.Struct("<5d")


@dataclass
class Played:
    """A page's end without its clock: the sound that it holds or has played, all that was said, and which mix was heard
    from which frame on."""

    epoch: int = 1
    said: list[dict[str, Any]] = field(default_factory=list)
    played_frames: int = 0
    refusals: int = 0
    exchanges: int = 0
    spare_frames: int = 0
    _parts: list[tuple[int, np.ndarray]] = field(default_factory=list)

    def take(self, data: bytes) -> dict[str, Any] | None:
        """Hold sound, in exchange for what was held of the same frames; returns what is said where it is too late."""
        epoch, stream_frame, _, _, refusals = HEADER.unpack(data[: HEADER.size])
        frame = int(stream_frame)
        if (epoch, refusals) != (self.epoch, self.refusals):
            return None
        if frame < self.played_frames:
            self.refusals += 1
            told = {"do": "late", "epoch": self.epoch, "frame": frame, "refusals": self.refusals}
            return told | {"played_frames": self.played_frames, "held_frames": self.n_frames}
        assert frame <= self.n_frames  # nothing is left out
        if frame < self.n_frames:
            self.exchanges, self.spare_frames = self.exchanges + 1, frame - self.played_frames
        kept = [(at, part[:, : frame - at]) for at, part in self._parts if at < frame]
        self._parts = [*kept, (frame, np.frombuffer(data, "<f4", offset=HEADER.size).reshape(2, -1))]
        return None

    @property
    def n_frames(self) -> int:
        """Return how many frames have been played or are held."""
        return self._parts[-1][0] + self._parts[-1][1].shape[1] if self._parts else 0

    @property
    def sound(self) -> np.ndarray:
        """Return (2, n_frames)."""
        return np.concatenate([np.zeros((2, 0), np.float32), *(part for _, part in self._parts)], axis=1)

    def told(self, what: str) -> list[dict[str, Any]]:
        """Return all messages of a kind."""
        return [one for one in self.said if one["type"] == what]

    def mixes(self) -> list[tuple[int, Mix]]:
        """Return the first mix at frame 0, and each that it became: what is told voids what was told for later."""
        found: list[tuple[int, Mix]] = []
        for one in self.told("applied"):
            if one["mix"]:
                kept = [item for item in found if item[0] <= one["frame"]]
                found = [*kept, (one["frame"], Mix.model_validate(one["mix"]))]
        return found


class MonitorClient:
    """Plays to the end of what is asked for, telling what it has "played" as soon as it has come, but for what it
    holds."""

    def __init__(self, url: str, origin: str) -> None:
        self._url, self._origin = url, origin

    def play(
        self, state: dict[str, Any], listening: dict[str, Any], *, n_frames: int, at_frame: int = 0, **more: Any
    ) -> Played:
        """Play a session for so long, listening in one way."""
        return self.play_changing(state, [(state["revision"], listening)], n_frames=n_frames, at_frame=at_frame, **more)

    def play_changing(
        self,
        state: dict[str, Any],
        listenings: Sequence[tuple[int, dict[str, Any]]],
        *,
        n_frames: int,
        at_frame: int = 0,
        epoch: int = 1,
        holds_frames: int = 0,
        in_turn: bool = False,
    ) -> Played:
        """Play a session, listening in one way after another, each on a revision; spread over the time, or else each as
        soon as the one before is heard."""
        (revision, listening), *waiting = listenings
        first = {"do": "play", "epoch": epoch, "at_frame": at_frame, "log": True, "session_id": state["id"]}
        played = Played(epoch)
        with connect(self._url, origin=self._origin, max_size=None, proxy=None) as socket:
            socket.send(json.dumps(first | {"revision": revision, "listening": listening}))
            while (played.n_frames < n_frames or (in_turn and waiting)) and not played.told("problem"):
                data = socket.recv(timeout=20)
                if isinstance(data, str):
                    played.said.append(json.loads(data))
                    continue
                late = played.take(data)
                if late is not None:
                    socket.send(json.dumps(late))
                done = len(listenings) - len(waiting)
                is_heard = any(one["seq"] == done - 1 for one in played.told("applied"))
                is_time = played.n_frames > n_frames * done // (len(listenings) + 1)
                if waiting and (is_heard if in_turn else is_time):
                    revision, listening = waiting.pop(0)
                    message = {"do": "listen", "seq": done, "session_id": state["id"]}
                    socket.send(json.dumps(message | {"revision": revision, "listening": listening}))
                played.played_frames = max(played.n_frames - holds_frames, played.played_frames)
                held = {"do": "held", "epoch": epoch, "played_frames": played.played_frames, "underruns": 0}
                held |= {"exchanges": played.exchanges, "spare_frames": played.spare_frames}
                socket.send(json.dumps(held))
        return played
