"""Finding the cuts in finished pictures that come without a list."""
