"""What earlier batches made: which file, of what, with which checksum, in what time."""
