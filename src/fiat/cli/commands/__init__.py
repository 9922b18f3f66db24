"""One command, one module."""
