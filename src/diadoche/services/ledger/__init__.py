"""The memory of all offloads and outputs."""
