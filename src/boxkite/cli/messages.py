"""What is said to the standard error."""

import sys


def print_error(message: str, hint: str = "") -> None:
    """One line to the standard error, and a second with what to do."""
    sys.stderr.write(f"boxkite: {message}\n" + (f"  {hint}\n" if hint else ""))
