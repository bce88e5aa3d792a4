"""One module a station: its controls and instrument on the bench, its page in the picture area."""
