"""Accounts by source: this host's name service, or a folder of files."""
