"""The registry of searches: a new way of finding faults is one file here, and its name in the registry."""

from collections.abc import Callable

from mivlo.core.finder.searches import bursts, hum, lines
from mivlo.core.finder.stretch import Stretch, Suspect

__all__ = ["SEARCHES"]

SEARCHES: dict[str, Callable[[Stretch], list[Suspect]]] = {
    "lines and humps": lines.search,
    "hum": hum.search,
    "plosives and sibilants": bursts.search,
}
