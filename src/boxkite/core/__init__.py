"""All the work. Nothing here prints, and nothing here imports the command line."""
