"""Box Kite: from a marked program to named, proved files."""

__version__ = "0.1.0"
