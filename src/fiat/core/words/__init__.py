"""What a person types, and how things are called."""
