"""Decode, picture and sound, encode: from a planned row to a proved file under its final name."""
