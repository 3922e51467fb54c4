"""Qt lives here and nowhere else."""
