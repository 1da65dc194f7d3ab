"""The live monitor: a process of its own that renders ahead of the play position and streams to a page."""
