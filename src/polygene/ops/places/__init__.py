"""Layers where they lie: brought from one CRS to another, near each other, on planes of their own."""
