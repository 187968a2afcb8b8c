"""Footage that nobody here made, fetched from packages of Debian; `make real` tries all of it."""
