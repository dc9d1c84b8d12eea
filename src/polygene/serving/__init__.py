"""A service of features over HTTP, for reading: layers of files as collections."""
