"""Recipe files: checked whole, put in order, run, and remembered."""
