"""Tidewick Harbour: made-up data for every source of addresses, and the tour."""
