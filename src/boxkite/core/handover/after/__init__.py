"""The steps that follow once all files of a batch are made."""
