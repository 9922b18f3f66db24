"""The arrangements that come with Fiat, as data: ``builtin.toml``."""
