"""Marks on footage: what they say, the tables they stand in, and cuts that are detected."""
