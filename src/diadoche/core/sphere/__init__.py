"""Lenses that see all around, and the one picture that they make together."""
