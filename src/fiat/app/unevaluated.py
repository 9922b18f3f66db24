"""What Fiat does not evaluate, of a host and of a route."""

from fiat.core.ask import caveats
from fiat.core.model.finding import Finding
from fiat.core.model.host import Host
from fiat.core.model.route import Route


def of_host(host: Host) -> list[Finding]:
    """What holds for the whole host, and Fiat does not evaluate."""
    return [*caveats.of_host(host.settings), *caveats.of_view(host.accounts.view)]


def of_route(route: Route) -> list[Finding]:
    """What is not evaluated of anything walked on ``route``, and at its end."""
    return caveats.of_route(route)
