"""What the editing program is given."""
