"""On the ellipsoid: courses in longitude and latitude, and the nearest of them. No attributes."""
