"""Processes that are ready to work at once: forked from one that has loaded what they share."""
