"""Barnacle keeps contact lists and writes to a whole list so that no recipient learns of another."""

__version__ = "0.2.0"
