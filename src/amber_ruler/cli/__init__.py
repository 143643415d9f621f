"""The command line: parses, calls, prints."""

from amber_ruler.cli.main import main

__all__ = ["main"]
