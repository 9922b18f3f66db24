"""A host held in a file."""
