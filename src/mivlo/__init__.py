"""Mivlo: find, cut and prove away what rings, booms and hides in a mix."""

__version__ = "0.2.0"
