"""Cameras, rotations, projections: the ground floor. Imports nothing of ours."""
