"""Sources: their streams, rate, length, timecode and audio, the index of their frames, and decoding."""
