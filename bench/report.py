"""Writes what a benchmark measured into docs/figures.md: each benchmark has its own part of it."""

import datetime
import os
import platform
from collections.abc import Iterable, Sequence
from pathlib import Path

__all__ = ["FIGURES", "conclude", "machine_line", "table"]

FIGURES = Path(__file__).parents[1] / "docs" / "figures.md"
HEAD = "# Figures\n"


def machine_line(command: str) -> str:
    """Return when, how and on what a part was measured."""
    return (
        f"Measured by `{command}` on {datetime.date.today()}, {os.cpu_count()} cores of a virtual "
        f"{platform.machine()} machine, Python {platform.python_version()}."
    )


def table(rows: Iterable[Sequence[str]], head: Sequence[str] = ("what", "goal", "measured")) -> str:
    """Return a Markdown table, by itself of what was to be reached and what was measured."""
    lines = [f"| {' | '.join(row)} |" for row in (head, *rows)]
    return "\n".join([lines[0], "|---" * len(head) + "|", *lines[1:]])


def conclude(name: str, *paragraphs: str, write: bool) -> None:
    """Print what was measured, and keep it where asked."""
    text = "\n\n".join(paragraphs)
    print(text)
    if write:
        _write_part(name, text)


def _write_part(name: str, text: str) -> None:
    """Replace the part between a name's marks, or add it at the end."""
    first, last = f"<!-- {name} -->", f"<!-- end of {name} -->"
    before = FIGURES.read_text(encoding="utf-8") if FIGURES.exists() else HEAD
    part = f"{first}\n{text.strip()}\n{last}"
    if first in before:
        at, end = before.index(first), before.index(last) + len(last)
        after = before[:at] + part + before[end:]
    else:
        after = f"{before.rstrip()}\n\n{part}\n"
    FIGURES.write_text(after, encoding="utf-8")
