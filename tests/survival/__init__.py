"""What it must survive, made to happen for real."""
