"""Looks: which colour decisions, look files and colour spaces a shot gets, and what they do to a colour."""
