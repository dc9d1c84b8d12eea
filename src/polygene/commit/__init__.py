"""Files put in their places, all in one step: a run killed at any moment leaves the old or the new."""
