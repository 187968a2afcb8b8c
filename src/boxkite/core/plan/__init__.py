"""The job worked out: one row per file to be written, every path and size decided before anything is written."""
