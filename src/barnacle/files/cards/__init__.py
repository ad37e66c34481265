"""Contacts as cards: vCard, jCard and JSContact, and what they share.

May import `core`, and of `files` what every reader needs: encodings and drafts.
"""
