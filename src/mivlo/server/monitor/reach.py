"""How far ahead of what a page plays a change is made, so that its sound arrives there before that is played."""

from collections import deque

__all__ = ["Reach"]

FIRST_MS = 20.0
REMEMBERED = 36  # exchanges; about as many are in time for one that is late
BEYOND_MS = 3.0


class Reach:
    """Learns from what the page says of each exchange: how much longer there would have been time for it, or not."""

    def __init__(self) -> None:
        self._needed_ms: deque[float] = deque([FIRST_MS], maxlen=REMEMBERED)
        self._open_ms: deque[float] = deque()  # what was left for each exchange of which nothing is known yet

    @property
    def ms(self) -> float:
        """Return how much time the next change should leave, for making it and for the way to the page."""
        return max(self._needed_ms) + BEYOND_MS

    def begin(self, left_ms: float) -> None:
        """Note how much time there is for an exchange that is made now."""
        self._open_ms.append(left_ms)

    def in_time(self, n_exchanges: int, spare_ms: float | None) -> None:
        """Take note that so many exchanges were in time, the newest of them by so much."""
        known_ms = [self._open_ms.popleft() for _ in range(min(n_exchanges, len(self._open_ms)))]
        if known_ms and spare_ms is not None:
            self._needed_ms.append(known_ms[-1] - spare_ms)

    def late(self, n_in_time: int, missed_ms: float) -> None:
        """Take note that, after so many that were in time, one was late by so much; what came after it is void."""
        self.in_time(n_in_time, None)
        if self._open_ms:
            self._needed_ms.append(self._open_ms[0] + missed_ms)
        self._open_ms.clear()
