"""`python -m mivlo`, or `mivlo` where it is installed: the command line, and `mivlo serve`, the application."""

import sys

__all__ = ["main"]


def main() -> None:
    """Run one verb; the server's libraries are loaded for `serve` alone."""
    if sys.argv[1:2] == ["serve"]:
        from mivlo.server.run import main as serve

        sys.exit(serve(sys.argv[2:], verb="serve"))
    from mivlo.cli import app

    app(prog_name="mivlo")


if __name__ == "__main__":
    main()
