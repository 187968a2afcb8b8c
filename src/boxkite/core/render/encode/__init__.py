"""Encoding and muxing: video files, numbered images, the first of two passes."""
