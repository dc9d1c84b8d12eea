"""Benchmarks: ratios to something measured in the same run. ``make bench``."""
