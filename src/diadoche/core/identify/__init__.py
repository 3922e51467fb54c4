"""What a file is, decided from its content."""
