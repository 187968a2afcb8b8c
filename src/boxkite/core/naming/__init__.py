"""The pattern language that makes names, and names that every file system takes."""
