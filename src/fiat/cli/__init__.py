"""The command line: one module for each command, and how results look."""
