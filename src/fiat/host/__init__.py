"""Hosts: the real one (:mod:`fiat.host.live.host`) and one held in memory (:mod:`fiat.host.image.host`).

Both answer to :class:`fiat.core.model.host.Host`.
"""
