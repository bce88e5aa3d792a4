"""Output: pictures written whole or not at all, with profile and metadata."""
