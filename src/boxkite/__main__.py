"""Run the command line with ``python -m boxkite``."""

from boxkite.cli.main import program

if __name__ == "__main__":
    program()
