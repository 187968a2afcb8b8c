"""Edits: one small model of a timeline, and the lists and files it is read from and written to."""
