"""The job: its options declared once, job files, choices among shots, handles."""
