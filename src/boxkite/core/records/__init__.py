"""The records of batches: their files, sources, checksums and times."""
