"""Strokes while they are drawn: the tiles they hold, and who goes on where two meet."""
