"""Copying a card and proving every copy."""
