"""The picture: zoom, pan, tiles, compare modes."""
