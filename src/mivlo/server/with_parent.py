"""Ending with the process that started this one, however that ended."""

import ctypes
import signal

__all__ = ["end_with_parent"]

PR_SET_PDEATHSIG = 1


def end_with_parent(how: signal.Signals = signal.SIGTERM) -> None:
    """Let the kernel send a signal to this process when the one that started it ends: a killed one cannot."""
    ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, how)
