"""Media that come and go, with real services."""
