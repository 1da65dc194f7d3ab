"""Compiled loops and nothing else, one file per loop; none calls anything of another file.

A file of loops is loaded when it is first asked for (`kernels.svf_chain.run_chain`), and with it the compiler: whoever
renders nothing does not wait for it. What the loops and their callers agree on stands here; compiled loops hold it, so
whoever changes it removes the compiled files beside them.
"""

import importlib
from types import ModuleType

__all__ = ["CONTROL_FRAMES", "FORGETTING", "SUBSTEP_FRAMES"]

CONTROL_FRAMES = 64  # the absolute grid on which figures may change
SUBSTEP_FRAMES = 32  # how often a dynamic move's level and gain are computed: two thirds of a millisecond at 48 kHz
FORGETTING = 0.04  # a frame: how fast a plane learns a line's own habit upwards


def __getattr__(name: str) -> ModuleType:
    if name.startswith("__"):
        raise AttributeError(name)
    return importlib.import_module(f"{__name__}.{name}")
