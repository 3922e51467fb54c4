"""Diadoche: from a card in the hand to footage an editing program can cut."""
