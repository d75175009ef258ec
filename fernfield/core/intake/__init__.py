"""What makes a grid of samples from elsewhere into heights: surfaces from above, holes filled, steps smoothed."""
