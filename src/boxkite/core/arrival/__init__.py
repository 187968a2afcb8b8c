"""Footage as it comes in: a folder that is watched, cards that are copied and verified."""
