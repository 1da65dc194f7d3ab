"""The command line's frame: what all verbs share, and the verbs of which only others can do the work."""

import os
import sys
from collections.abc import Callable
from functools import wraps
from pathlib import Path
from typing import Annotated, ParamSpec

import typer

from mivlo.cli.options import Port
from mivlo.core.errors import MivloError

__all__ = ["app", "one_line_errors"]

P = ParamSpec("P")

app = typer.Typer(
    add_completion=False,
    no_args_is_help=True,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
    help="Find, cut and prove away what rings, booms and hides in a mix. "
    "`mivlo serve --database URL --data FOLDER` runs the application where it is installed; from a checkout, "
    "`./mivlo start` runs it and `./mivlo test` all its tests, with their own set-up.",
)


def one_line_errors(command: Callable[P, None]) -> Callable[P, None]:
    """Turn what the user can cause into one line on standard error and exit status 2."""

    @wraps(command)
    def wrapped(*args: P.args, **kwargs: P.kwargs) -> None:
        try:
            command(*args, **kwargs)
            sys.stdout.flush()
        except BrokenPipeError:
            # Whoever reads has seen enough; what is left would fail again when Python ends.
            os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        except (MivloError, OSError) as error:
            print(f"mivlo: {' '.join(str(error).split())}", file=sys.stderr)
            raise typer.Exit(2) from None

    return wrapped


@app.command()
@one_line_errors
def start(
    port: Port = 8765,
    data: Annotated[str, typer.Option(help="Data folder; empty: the usual place.")] = "",
    demo: Annotated[bool, typer.Option("--demo/--no-demo", help="Load the made-up session once.")] = True,
) -> None:
    """Set up what is missing, then run the application with its demo session (Ctrl-C stops it)."""
    raise MivloError("start is run by the script ./mivlo, which does the set-up first")


@app.command()
@one_line_errors
def test() -> None:
    """Set up what is missing, then run every test, linter and type check."""
    raise MivloError("test is run by the script ./mivlo, which does the set-up first")


@app.command()
@one_line_errors
def backup(file: Annotated[Path, typer.Argument(help="File to write.")]) -> None:
    """Save everything that Mivlo keeps in one file, while it runs or not (--data names its folder)."""
    raise MivloError(f"{file}: backup is one of the application's own verbs: mivlo backup FILE [--data FOLDER]")


@app.command()
@one_line_errors
def restore(file: Annotated[Path, typer.Argument(help="Backup to read.")]) -> None:
    """Bring everything of a backup back, into an empty data folder (--data names it)."""
    raise MivloError(f"{file}: restore is one of the application's own verbs: mivlo restore FILE [--data FOLDER]")
