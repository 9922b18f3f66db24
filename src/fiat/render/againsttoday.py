"""What supposed memberships change, against today."""

from collections.abc import Iterator

from fiat.core.ask.effects import Effects, kept
from fiat.core.model.accounts import Accounts
from fiat.core.text import Fields
from fiat.render.changes import shift_blocks, shift_fields, unlisted_in
from fiat.render.model import BLANK, Block, Verbatim


def against_today_fields(effects: Effects) -> Fields:
    """The machine output of what supposed memberships change."""
    return {
        "gains": [shift_fields(found) for found in effects.gains],
        "losses": [shift_fields(found) for found in effects.losses],
    }


def against_today_blocks(effects: Effects, accounts: Accounts) -> Iterator[Block]:
    """What supposed memberships change, as gains and losses against today."""
    yield BLANK
    yield Verbatim("Against today:")
    yield from shift_blocks("Gains", kept(effects.gains), accounts, unlisted_in(effects.universe))
    yield from shift_blocks("Loses", kept(effects.losses), accounts, unlisted_in(effects.universe))
