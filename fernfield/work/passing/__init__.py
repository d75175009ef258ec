"""Who gets where on a land: one answer for all rooms that ask it."""
