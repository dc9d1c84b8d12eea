"""Maps and figures with Matplotlib; they read layers and change nothing."""
