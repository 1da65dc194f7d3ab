"""The command line's verbs: they share the core and need neither server nor database."""

from mivlo.cli import listening, sessions, treating
from mivlo.cli.application import app

__all__ = ["app", "listening", "sessions", "treating"]
