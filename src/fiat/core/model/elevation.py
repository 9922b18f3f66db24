"""Elevation: the rules by which a user may act as another account, as values.

Source of the words: sudoers(5), whose exporter writes these rules as JSON (cvtsudoers(1)).
"""

from typing import NamedTuple

ANY = "ALL"
"""In a list of users, hosts or commands: whatever there is."""


class Member(NamedTuple):
    """One word of a list of users, groups or hosts, or one that takes away again (``negated``): the last that fits
    counts.

    ``kind`` is ``user``, ``uid``, ``group`` (of users: everybody in it), ``gid``, ``host``, ``address``, ``all``, or
    ``other`` for what is not evaluated, such as a netgroup. It was ``listed`` where it stands in a list with a name.
    """

    kind: str
    value: str
    negated: bool = False
    listed: bool = False


class Command(NamedTuple):
    """A command that is allowed, or not (``negated``): its path and arguments as written, :data:`ANY` for every one."""

    text: str
    negated: bool = False


class ElevationRule(NamedTuple):
    """``users`` may on ``hosts`` run ``commands`` as ``run_as``, with the groups ``run_as_groups``.

    Where neither is written (None) it is the default account; where just groups are, the user themselves with one of
    these. ``password`` is whether one is asked for, None where the settings say. ``tags`` are the other words that
    stand before the commands.
    """

    users: tuple[Member, ...]
    hosts: tuple[Member, ...]
    run_as: tuple[Member, ...] | None
    run_as_groups: tuple[Member, ...] | None
    commands: tuple[Command, ...]
    password: bool | None = None
    tags: tuple[str, ...] = ()

    @property
    def text(self) -> str:
        """The rule in one line, much as sudoers(5) writes it."""
        whom = _joined(self.run_as or ())
        if self.run_as_groups is not None:
            whom += f" : {_joined(self.run_as_groups)}"
        parts = [_joined(self.users), f"{_joined(self.hosts)} ="]
        if self.run_as is not None or self.run_as_groups is not None:
            parts.append(f"({whom.strip()})")
        if self.password is not None:
            parts.append("PASSWD:" if self.password else "NOPASSWD:")
        parts += [f"{tag}:" for tag in self.tags]
        return " ".join((*parts, ", ".join(f"{'!' * one.negated}{one.text}" for one in self.commands)))


def _joined(members: tuple[Member, ...]) -> str:
    marks = {"uid": "#", "group": "%", "gid": "%#"}
    return ", ".join(f"{'!' * one.negated}{marks.get(one.kind, '')}{one.value}" for one in members)


class ElevationSetting(NamedTuple):
    """A setting: ``value`` is True, False or a word; where it is bound it counts for just these.

    The exporter does not tell whether ``people`` are those who act, or those whom they act as.
    """

    name: str
    value: object
    people: tuple[Member, ...] | None = None
    hosts: tuple[Member, ...] | None = None
    commands: tuple[Command, ...] | None = None


class Elevations(NamedTuple):
    """All rules of a host, in their order: of several that fit the last counts. ``source`` says where they are from.

    ``addresses`` are those of the host, None where they are not known. ``unread`` says what was not looked at. ``json``
    is what the exporter wrote.
    """

    rules: tuple[ElevationRule, ...]
    settings: tuple[ElevationSetting, ...] = ()
    source: str = ""
    host: str = ""
    addresses: tuple[str, ...] | None = None
    unread: tuple[str, ...] = ()
    json: str = ""
