"""What supposed memberships change, against today."""

from collections.abc import Iterator

from fiat.core.ask.effects import Effects
from fiat.core.model.accounts import Accounts
from fiat.core.text import Fields
from fiat.render.changes import effects_blocks, effects_fields
from fiat.render.model import BLANK, Block, Verbatim


def against_today_fields(effects: Effects) -> Fields:
    """The machine output of what supposed memberships change."""
    return effects_fields(effects)


def against_today_blocks(effects: Effects, accounts: Accounts, *, paths: bool = False) -> Iterator[Block]:
    """What supposed memberships change, as gains and losses against today, with ``paths`` on which paths."""
    yield BLANK
    yield Verbatim("Against today:")
    yield from effects_blocks(effects, accounts, paths=paths)
