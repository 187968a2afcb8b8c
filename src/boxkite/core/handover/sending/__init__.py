"""Sending finished files to folders and servers, and keeping count of what is where."""
