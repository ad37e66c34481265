"""Open formats to and from contacts: one module a format."""
