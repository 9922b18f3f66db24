"""The arrangements that come with Fiat, as data: ``builtin.toml``.

They are read by :mod:`fiat.host.arrangements`; docs/formats.md has the format, docs/arrangements.md what each is for.
"""
