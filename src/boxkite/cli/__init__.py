"""The command line: arguments in, tables and messages out. Nothing is computed here."""
