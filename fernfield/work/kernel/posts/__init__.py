"""What is kept of a land: layers, tiles, tracts and lands, and their coarser levels."""
