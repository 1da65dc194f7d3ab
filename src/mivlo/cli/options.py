"""Options that several verbs have, each declared once."""

from pathlib import Path
from typing import Annotated

import typer

__all__ = ["AsJson", "FromS", "HighHz", "LowHz", "OneFile", "OneRole", "Port", "Roles", "ToS"]

AsJson = Annotated[bool, typer.Option("--json", help="Print JSON.")]
OneFile = Annotated[Path, typer.Argument(help="Audio file of one track.")]
FromS = Annotated[float, typer.Option("--from", help="Start of the stretch in seconds.")]
ToS = Annotated[float | None, typer.Option("--to", help="End of the stretch in seconds; left out: the end.")]
LowHz = Annotated[float, typer.Option(help="Lowest frequency in Hz.")]
HighHz = Annotated[float, typer.Option(help="Highest frequency in Hz.")]
OneRole = Annotated[str, typer.Option(help='What the track is, as in the application ("bass"); empty: not known.')]
Roles = Annotated[
    list[str] | None, typer.Option(help='What each track is, in the order of the files ("bass"); may be left out.')
]
Port = Annotated[int, typer.Option(help="Port of the application on 127.0.0.1.")]
