"""Windfell: one picture out of many frames, as a panorama or as a stack."""

__version__ = "0.1.0"
