"""Compiled loops and nothing else, one file per loop; none calls or reads anything of another file."""
