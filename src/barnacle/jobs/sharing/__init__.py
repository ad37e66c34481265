"""Lists that colleagues share through a hub: offered, exchanged, in conflict.

May import every other folder of `jobs`.
"""
