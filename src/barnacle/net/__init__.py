"""The network: one module a protocol.

May import `core` and `files`.
"""
