"""Media that come and go."""
