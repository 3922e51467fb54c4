"""What must be fast, measured against public tools in the same run."""
