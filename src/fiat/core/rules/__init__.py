"""Every rule of access and of change, each once."""
