"""The demo shoot: a drawn scene and the simulated cameras that record it."""
