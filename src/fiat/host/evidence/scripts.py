"""What scripts of a shell run in turn: those that somebody here wrote or may edit; a package's own are left to it.

Every command counts, whatever condition it stands under; what is written to be text is left out.
"""

import os
import re
from collections.abc import Callable, Iterable, Iterator, Sequence

from fiat.core.audit.evidence import StartedFile
from fiat.core.model.accounts import Accounts
from fiat.host.evidence.commandlines import Setting, of_shell
from fiat.host.evidence.texts import text_of

_SHELL = re.compile(r"#!\s*(?:\S*/)?(?:env\s+)?(?:sh|bash|dash|ksh|mksh|zsh|ash)\b")
_SOURCED = re.compile(r"/etc/(?:profile|bash\.bashrc|bashrc|environment|default/[^/]+|profile\.d/[^/]+\.sh|rc\.local)")
_TEXT_BEGINS = re.compile(r"<<-?\s*(['\"]?)(\w+)\1")
_DEEPEST = 3
_LONGEST = 1 << 16
"""Characters of a script that are looked at."""


def followed(
    started: Iterable[StartedFile], packaged: Callable[[Sequence[str]], frozenset[str] | None], accounts: Accounts
) -> Iterator[StartedFile]:
    """All that is started, and what the scripts among it run and read."""
    pending = list(started)
    yield from pending
    seen: set[tuple[str, int | None]] = set()
    for _ in range(_DEEPEST):
        scripts = []
        for one in pending:
            key = os.path.realpath(one.path), one.uid
            if not one.folder and key not in seen and _may_be_followed(one):
                seen.add(key)
                scripts.append(one)
        own = [one.path for one in scripts if not one.path.startswith("/etc/")]
        theirs = packaged(own) or frozenset()
        pending = [found for one in scripts if one.path not in theirs for found in of_script(one, accounts)]
        yield from pending


def _may_be_followed(one: StartedFile) -> bool:
    return os.path.isfile(one.path) and (one.run or is_sourced(one.path))


def is_sourced(path: str) -> bool:
    """Whether a shell of root's reads a file here and does what it says, without its being executable."""
    return _SOURCED.fullmatch(path) is not None


def of_script(one: StartedFile, accounts: Accounts) -> Iterator[StartedFile]:
    """What the commands of a script run and read; nothing where no shell runs it."""
    text = text_of(one.path)[:_LONGEST]
    if not _SHELL.match(text) and (one.run and not is_sourced(one.path)):
        return
    account = None if one.uid is None else accounts.user_numbered(one.uid)
    home = account.home if account is not None and account.home else "/"
    by = one.path if one.by.startswith("script ") else f"{one.path}, {one.by}"
    setting = Setting(one.uid, f"script {by}", home=home, accounts=accounts)
    yield from (found for found in of_shell(_without_texts(text), setting) if found.path != one.path)


def _without_texts(text: str) -> str:
    """The lines of a script without comments, and without texts that are handed to a program (here-documents)."""
    lines = []
    until = None
    for line in text.split("\n"):
        if until is not None:
            until = None if line.strip() == until else until
            continue
        if line.lstrip().startswith("#"):
            continue
        begins = _TEXT_BEGINS.search(line)
        until = begins[2] if begins else None
        lines.append(line)
    return "\n".join(lines)
