"""Processes that answer questions: what crashes or hangs there takes nothing else with it."""
