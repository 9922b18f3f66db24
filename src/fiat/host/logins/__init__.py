"""What a login on this host gives, worked out as the programs of a login do it, without running any of them.

The door of this room is :class:`fiat.host.logins.login.LiveLogins`.
"""

__all__ = ()
