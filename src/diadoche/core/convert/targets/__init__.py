"""What outputs are written to: one film, or one file for each picture."""
