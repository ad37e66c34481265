"""The network: one module a protocol."""
