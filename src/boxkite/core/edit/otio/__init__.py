"""Timelines by OpenTimelineIO: read, whatever its adapters read, and written."""
