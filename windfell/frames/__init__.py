"""Frames: files read as light, their metadata, and the sets they seem to form."""
