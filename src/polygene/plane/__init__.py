"""The planar engine: grid, noding, arrangement, faces, rings, location.

Takes coordinates and offsets, knows nothing of files, attributes or people.
"""
