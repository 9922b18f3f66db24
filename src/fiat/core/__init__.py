"""The core: modes, access lists, principals, the access rules, changes.

Pure: nothing here prints, parses a command line, reads the environment or
opens a file. What it needs to know of a machine it asks through
:class:`fiat.core.model.host.Host`.
"""
