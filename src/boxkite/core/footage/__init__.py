"""What a source is: its streams, rate, length, timecode and sound, and the map from its frames to its times."""
