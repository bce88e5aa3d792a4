"""Pixels: colour and transfer, profiles, resampling, pyramids. Imports nothing of ours above the ground."""
