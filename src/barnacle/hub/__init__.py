"""The hub: a small server through which colleagues share lists."""
