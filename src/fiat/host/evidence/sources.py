"""Every source of what root or a service runs and reads without being asked, each with a reader of its own."""

from collections.abc import Iterator

from fiat.core.audit.evidence import StartedFile
from fiat.core.model.accounts import Accounts
from fiat.host.evidence.clock import of_the_clock
from fiat.host.evidence.configuration import of_configuration
from fiat.host.evidence.devices import of_devices, of_the_loader
from fiat.host.evidence.libraries import Libraries
from fiat.host.evidence.network import of_the_network
from fiat.host.evidence.packages import Packages
from fiat.host.evidence.scripts import followed
from fiat.host.evidence.sessions import of_pam, of_ssh, of_sudo
from fiat.host.evidence.texts import Ends, RealPaths
from fiat.host.evidence.units import of_generators, of_lingering, of_units
from fiat.host.evidence.upkeep import of_log_rotation, of_package_manager

_PROGRAMS = 1_000
"""Of so many programs that no package owns the libraries are looked for."""


def everything_started(accounts: Accounts, packages: Packages, libraries: Libraries) -> tuple[StartedFile, ...]:
    """What every source names, each thing once, with what the scripts among that run in turn, and what the programs
    load that no package owns."""
    real = RealPaths()
    found = list(dict.fromkeys(followed(dict.fromkeys(_each(accounts)), packages.owned, accounts, real)))
    programs = [one for one in found if one.run and not one.folder]
    owned = packages.owned([real.of(one.path) for one in programs]) or frozenset()
    loads: dict[str, tuple[str, ...]] = {}
    for one in programs:
        if real.of(one.path) not in owned:
            if one.path not in loads:
                loads[one.path] = libraries.of(one.path) if len(loads) < _PROGRAMS else ()
            by = f"library of {one.path}, {one.by}"
            found += (StartedFile(path, one.uid, by, run=False) for path in loads[one.path])
    ends = Ends(real)
    return tuple(one._replace(end=ends.of(one.path)) for one in dict.fromkeys(found))


def _each(accounts: Accounts) -> Iterator[StartedFile]:
    yield from of_units(accounts)
    yield from of_lingering(accounts)
    yield from of_generators()
    yield from of_the_clock(accounts)
    yield from of_devices()
    yield from of_the_loader()
    yield from of_the_network()
    yield from of_package_manager()
    yield from of_log_rotation(accounts)
    yield from of_pam()
    yield from of_sudo()
    yield from of_ssh(accounts)
    yield from of_configuration(accounts)
