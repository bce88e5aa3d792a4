"""The command line: the same engine without a window."""
