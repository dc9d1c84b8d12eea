"""Attributes: expressions, descriptions. Works on Arrow tables, knows no geometry and no files."""
