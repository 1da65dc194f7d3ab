"""Finds what behaves like a fault: levels on an axis, cues for every place, odds from the cues, measured suspects."""
