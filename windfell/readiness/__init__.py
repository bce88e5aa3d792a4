"""Readiness: what would go wrong with a set, named before the wait, with what mends it."""
