"""The command line: parse, call the core, show what came of it. No geometry, no SQL here."""
