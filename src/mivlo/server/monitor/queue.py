"""How much sound a page should hold: short while all is well, longer when it runs dry, and not as short again."""

__all__ = ["QueueLength"]

LONGEST_MS = 300.0
NEARLY_DRY_MS = 9.0
GROWTH_NEARLY_DRY, GROWTH_DRY = 1.5, 2.5  # one stutter is enough to learn from
SHRINK = 0.93
CALM_S = 4.0
LEARNT, LONGEST_LEARNT_MS = 1.3, 100.0  # with each time that it ran dry; half a minute of calm proves nothing


class QueueLength:
    """The queue's aim in frames; grows at each sign of trouble, shrinks step by step in calm.

    In calm it comes down to `base_ms`: what was asked for at first, and somewhat more with each time that it ran dry.
    """

    def __init__(self, base_ms: float, *, sample_rate_hz: int) -> None:
        self.base_ms = base_ms
        self.aim_ms = base_ms
        self._least_ms = 0.0  # for what is played, whatever the page's machine is like
        self._rate = sample_rate_hz
        self._underruns = 0
        self._last_change_s = 0.0

    @property
    def aim_frames(self) -> int:
        """Return how many frames should be on their way or waiting."""
        return round(self.aim_ms * self._rate / 1000.0)

    def lengthen(self, least_ms: float) -> None:
        """Never fall under a length from now on."""
        self._least_ms = max(self._least_ms, least_ms)
        self.aim_ms = max(self.aim_ms, self._least_ms)

    def report(self, *, held_frames: int, underruns: int, now_s: float) -> None:
        """Take in what a page holds; less than NEARLY_DRY_MS is nearly dry."""
        calm_ms = max(self.base_ms, self._least_ms)
        nearly_dry = held_frames < NEARLY_DRY_MS * self._rate / 1000.0
        if underruns > self._underruns:
            self._underruns = underruns
            self.base_ms = min(self.base_ms * LEARNT, max(LONGEST_LEARNT_MS, self.base_ms))
            self._grow(GROWTH_DRY, now_s)
        elif nearly_dry and now_s - self._last_change_s > 0.1:
            self._grow(GROWTH_NEARLY_DRY, now_s)
        elif now_s - self._last_change_s > CALM_S and self.aim_ms > calm_ms:
            self.aim_ms = max(self.aim_ms * SHRINK, calm_ms)
            self._last_change_s = now_s - CALM_S + 0.5

    def _grow(self, times: float, now_s: float) -> None:
        self.aim_ms = min(self.aim_ms * times, LONGEST_MS)
        self._last_change_s = now_s
