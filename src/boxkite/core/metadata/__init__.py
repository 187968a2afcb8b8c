"""Facts that stand beside the pictures: tables, logs, sidecars, chunks; every value keeps its origin."""
