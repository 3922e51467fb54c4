"""What each view shows and allows, as plain Python."""
