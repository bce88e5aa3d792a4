"""From recipe to picture: stages, keys, cache, scales, regions."""
