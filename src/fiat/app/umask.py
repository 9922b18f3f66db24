"""The umask of processes, and where on this host it is set."""

from fiat.core.model.host import Host
from fiat.core.typed import NamedTuple
from fiat.host.live.umaskfiles import Search


class Umask(NamedTuple):
    """The umask of a process; of this one where ``pid`` is None."""

    pid: int | None
    mask: int


def umask_of(host: Host, pid: int | None = None) -> Umask:
    """The umask of a process by number, or of this one."""
    return Umask(pid, host.settings.umask if pid is None else host.process_umask(pid))


def where_set() -> Search:
    """The lines of this host's files that set a umask."""
    from fiat.host.live import umaskfiles

    return umaskfiles.search()
