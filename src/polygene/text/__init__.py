"""Geometry from nested lists and from text: what formats and expressions write coordinates in."""
