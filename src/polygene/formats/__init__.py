"""One reader and writer per open format, behind the small interface of `base`."""
