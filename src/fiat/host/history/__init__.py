"""Where the history of changes is kept."""
