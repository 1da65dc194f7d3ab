"""`python -m mivlo`, or `mivlo` where it is installed: the command line, and `mivlo serve`, the application,
with `mivlo backup` and `mivlo restore`, which save and bring back all that it keeps."""

import sys

__all__ = ["main"]


def main() -> None:
    """Run one verb; the server's libraries are loaded for its own verbs alone."""
    if sys.argv[1:2] == ["serve"]:
        from mivlo.server.run import main as serve

        sys.exit(serve(sys.argv[2:], verb="serve"))
    if sys.argv[1:2] in (["backup"], ["restore"]):
        from mivlo.server.backup import backup_main, restore_main

        sys.exit((backup_main if sys.argv[1] == "backup" else restore_main)(sys.argv[2:]))
    from mivlo.cli import app

    app(prog_name="mivlo")


if __name__ == "__main__":
    main()
