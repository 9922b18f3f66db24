"""Every source of what root or a service runs and reads without being asked, each with a reader of its own."""

from collections.abc import Iterator

from fiat.core.audit.evidence import StartedFile
from fiat.core.model.accounts import Accounts
from fiat.host.evidence.clock import of_the_clock
from fiat.host.evidence.configuration import of_configuration
from fiat.host.evidence.devices import of_devices, of_the_loader
from fiat.host.evidence.network import of_the_network
from fiat.host.evidence.packages import Packages
from fiat.host.evidence.scripts import followed
from fiat.host.evidence.sessions import of_pam, of_ssh, of_sudo
from fiat.host.evidence.units import of_generators, of_lingering, of_units
from fiat.host.evidence.upkeep import of_log_rotation, of_package_manager


def everything_started(accounts: Accounts, packages: Packages) -> tuple[StartedFile, ...]:
    """What every source names, each thing once, and what the scripts among that run in turn."""
    return tuple(dict.fromkeys(followed(dict.fromkeys(_each(accounts)), packages.owned, accounts)))


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
