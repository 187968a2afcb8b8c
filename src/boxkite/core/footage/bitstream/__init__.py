"""Coded pictures read bit by bit: what the headers of a stream say, without decoding it."""
