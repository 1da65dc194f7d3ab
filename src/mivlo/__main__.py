"""`python -m mivlo`: the command line."""

from mivlo.cli import app

app(prog_name="mivlo")
