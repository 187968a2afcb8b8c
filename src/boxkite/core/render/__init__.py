"""Decode, picture and sound, encode: from a planned row to a verified file under its final name."""
