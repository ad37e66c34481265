"""Servers that stand in for real ones, on this machine alone: for the tour, for tests, for trying things."""
