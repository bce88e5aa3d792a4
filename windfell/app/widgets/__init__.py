"""Small controls used by several stations."""
