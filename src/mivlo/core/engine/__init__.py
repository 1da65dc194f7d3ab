"""The one engine: what is heard while working and what is rendered are the same samples."""
