"""A plan being run: several shots at once, each in a process of its own, so that none can take others along."""
