"""Edits that point at finished files, and back at the originals."""
