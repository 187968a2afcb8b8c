"""A plan being run: several shots at once, each in a separate process, so that none can take others along."""
