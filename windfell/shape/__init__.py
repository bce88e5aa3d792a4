"""Shape: the view, the canvas of a projection, its bounds, its outline."""
