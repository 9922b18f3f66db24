"""A host held in memory."""
