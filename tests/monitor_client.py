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

HEADER = struct.Struct("<4d")


@dataclass
class Played:
    """What came: the sound, all that was said, and from which frame on which mix was heard."""

    parts: list[np.ndarray] = field(default_factory=list)
    said: list[dict[str, Any]] = field(default_factory=list)

    @property
    def n_frames(self) -> int:
        return sum(part.shape[1] for part in self.parts)

    @property
    def sound(self) -> np.ndarray:
        return np.concatenate([np.zeros((2, 0), np.float32), *self.parts], axis=1)

    def told(self, what: str) -> list[dict[str, Any]]:
        return [one for one in self.said if one["say"] == what]

    def mixes(self) -> list[tuple[int, Mix]]:
        """Return the first mix at frame 0, and each that it became."""
        return [(one["frame"], Mix.model_validate(one["mix"])) for one in self.told("applied") if one["mix"]]


class MonitorClient:
    """Plays to the end of what is asked for, telling what it has "played" as soon as it has come."""

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
    ) -> Played:
        """Play a session, listening in one way after another, each on a revision; spread over the time."""
        (revision, listening), *waiting = listenings
        first = {"do": "play", "epoch": epoch, "at_frame": at_frame, "log": True, "session_id": state["id"]}
        played = Played()
        with connect(self._url, origin=self._origin, max_size=None, proxy=None) as socket:
            socket.send(json.dumps(first | {"revision": revision, "listening": listening}))
            while played.n_frames < n_frames and not played.told("problem"):
                data = socket.recv(timeout=20)
                if isinstance(data, str):
                    played.said.append(json.loads(data))
                    continue
                of_epoch, stream_frame, _, _ = HEADER.unpack(data[: HEADER.size])
                assert (of_epoch, stream_frame) == (epoch, played.n_frames)
                played.parts.append(np.frombuffer(data, "<f4", offset=HEADER.size).reshape(2, -1))
                done = len(listenings) - len(waiting)
                if waiting and played.n_frames > n_frames * done // (len(listenings) + 1):
                    revision, listening = waiting.pop(0)
                    message = {"do": "listen", "seq": done, "session_id": state["id"]}
                    socket.send(json.dumps(message | {"revision": revision, "listening": listening}))
                held = {"do": "held", "epoch": epoch, "played_frames": played.n_frames, "underruns": 0}
                socket.send(json.dumps(held))
        return played
