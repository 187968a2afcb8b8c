"""Folders for the work that follows: one per shot, with its files, its notes and a work order."""
