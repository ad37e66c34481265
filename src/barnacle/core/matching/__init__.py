"""Which contacts are the same person: docs/matching.md tells the method."""
