"""Cuts at any frame that encode only what the nearest keyframes leave over, and copy the rest."""
