"""Frames for eyes."""
