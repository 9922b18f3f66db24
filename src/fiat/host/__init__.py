"""Hosts: the real one (:mod:`fiat.host.live`) and one held in memory (:mod:`fiat.host.image`).

Both answer to :class:`fiat.core.host.Host`.
"""
