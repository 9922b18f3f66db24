"""The rules of elevation of this host: exported by the program that they are for, where it is installed."""

from __future__ import annotations

import fcntl
import os
import socket
import struct
import subprocess
from collections.abc import Iterator

from fiat.core.errors import ElevationUnread, FiatError
from fiat.core.model.elevation import Elevations
from fiat.core.text import visible
from fiat.core.words.elevations import LARGEST_FILE, parse_elevations
from fiat.host.accounts.files import text_of
from fiat.host.accounts.switch import sources_of

RULES = "/etc/sudoers"
_EXPORTERS = tuple(f"{folder}/cvtsudoers" for folder in ("/usr/sbin", "/usr/bin", "/usr/local/sbin", "/usr/local/bin"))
_PATIENCE = 20
"""Seconds that the exporter may take."""


def rules_of_this_host() -> Elevations:
    """The rules in /etc/sudoers and what it includes.

    Raises :class:`ElevationUnread` where there are rules, and they cannot be read. The exporter is run only where root
    owns it, and nobody else can have written it.
    """
    from fiat.host.trust import FileRoute

    if not os.path.lexists(RULES):
        return Elevations((), source=f"{RULES}, which is not there", host=os.uname().nodename, addresses=())
    exporter = next((path for path in _EXPORTERS if os.path.exists(path)), None)
    if exporter is None:
        raise ElevationUnread(f"{RULES} is not read: its exporter, cvtsudoers, is not installed; --elevation FILE is")
    try:
        real = FileRoute("the exporter", exporter).file()
        if os.stat(real).st_uid != 0:
            raise ElevationUnread(f"{exporter} is not run: it does not belong to root")
        done = subprocess.run(
            [real, "-f", "json", RULES],
            env={"LC_ALL": "C.UTF-8", "PATH": "/usr/sbin:/usr/bin:/sbin:/bin"},
            stdin=subprocess.DEVNULL,
            capture_output=True,
            timeout=_PATIENCE,
        )
    except FiatError:
        raise
    except (OSError, subprocess.TimeoutExpired) as error:
        raise ElevationUnread(f"{RULES} cannot be exported: {error}") from error
    if done.returncode or not done.stdout:
        why = visible(done.stderr.decode("utf-8", "replace").strip().partition("\n")[0])
        raise ElevationUnread(f"{RULES} cannot be exported: {why or 'the exporter failed'}")
    if len(done.stdout) > LARGEST_FILE:
        raise ElevationUnread(f"{RULES} has more rules than can be read")
    found = parse_elevations(done.stdout.decode("utf-8", "surrogateescape"), RULES)
    others = [one.name for one in sources_of(text_of("/etc/nsswitch.conf"), "sudoers") if one.name != "files"]
    unread = tuple(f"rules of the source {visible(name)} in nsswitch.conf" for name in others)
    return found._replace(host=os.uname().nodename, addresses=tuple(addresses()), unread=unread)


_ADDRESS, _NETMASK = 0x8915, 0x891B  # SIOCGIFADDR, SIOCGIFNETMASK of netdevice(7)


def addresses() -> Iterator[str]:
    """The addresses of the interfaces but the loopback, each with the length of its network: ``10.0.0.7/24``."""
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as asks:
        for _, name in socket.if_nameindex():
            if name == "lo":
                continue
            request = struct.pack("256s", name.encode()[:15])
            try:
                own, mask = (socket.inet_ntoa(fcntl.ioctl(asks, what, request)[20:24]) for what in (_ADDRESS, _NETMASK))
            except OSError:  # it has none
                continue
            yield f"{own}/{mask}"
    for line in text_of("/proc/net/if_inet6").split("\n"):
        fields = line.split()
        if len(fields) == 6 and fields[5] != "lo":
            parts = [fields[0][at : at + 4] for at in range(0, 32, 4)]
            yield f"{':'.join(parts)}/{int(fields[2], 16)}"
