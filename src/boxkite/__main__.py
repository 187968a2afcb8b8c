"""Run the command line with ``python -m boxkite``."""

from boxkite.cli.main import main

if __name__ == "__main__":
    raise SystemExit(main())
