"""Brannock Fell: a made-up upland drawn by rule, photographed with known cameras."""
