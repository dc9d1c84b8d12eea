"""What overlays have in common: who takes part, the cut, the balance, the result."""
