"""What moves in a series: found in every frame, with its matte, its shadow, its track and its conflicts."""
