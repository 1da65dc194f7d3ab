"""Arrays that may be larger than memory: from some size on they live in a file without a name, and go with it."""

import os
import tempfile

import numpy as np

from mivlo.core.units import Floats

__all__ = ["IN_MEMORY_BYTES", "zeros"]

IN_MEMORY_BYTES = 96 << 20
ITEM_BYTES = 4


def zeros(shape: tuple[int, ...]) -> Floats:
    """Return float32 zeros of a shape.

    Raises
    ------
    OSError: no space for them where temporary files are kept (`tempfile.tempdir`)

    Source: ours
    """
    n_bytes = ITEM_BYTES * int(np.prod(shape, dtype=np.int64))
    if n_bytes <= IN_MEMORY_BYTES:
        return np.zeros(shape, dtype=np.float32)
    with tempfile.TemporaryFile(prefix="mivlo-") as file:
        os.posix_fallocate(file.fileno(), 0, n_bytes)  # a disk that is full says so now, not by a signal later
        return np.asarray(np.memmap(file, dtype=np.float32, mode="r+", shape=shape))
