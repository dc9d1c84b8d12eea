"""The command line: parse, call the core, show what came of it. No geometry, no SQL here."""

INTERRUPTED = 130  # the exit code of a run that was asked to stop
