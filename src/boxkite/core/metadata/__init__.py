"""Facts that stand beside the frames: tables, logs, sidecars, chunks; every value keeps its origin."""
