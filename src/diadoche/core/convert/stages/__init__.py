"""What happens to pictures between source and encoder: timing, then levels and colour; each one idea."""
