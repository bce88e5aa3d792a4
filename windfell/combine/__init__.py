"""Combine: many frames of one view become one picture by a rule."""
