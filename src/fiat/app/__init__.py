"""The use cases, without printing."""
