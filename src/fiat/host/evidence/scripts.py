"""What scripts of a shell run in turn: those that somebody here wrote or may edit; a package's own are left to it.

Every command counts, whatever condition it stands under; what is written to be text is left out.
"""

import os
import re
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import suppress

from fiat.core.audit.evidence import StartedFile
from fiat.core.model.accounts import Accounts
from fiat.host.evidence.commandlines import Setting, of_shell
from fiat.host.evidence.texts import RealPaths, text_of

_SHELL = re.compile(r"#!\s*(?:\S*/)?(?:env\s+)?(?:sh|bash|dash|ksh|mksh|zsh|ash)\b")
_SOURCED = re.compile(r"/etc/(?:profile|bash\.bashrc|bashrc|environment|default/[^/]+|profile\.d/[^/]+\.sh|rc\.local)")
_TEXT_BEGINS = re.compile(r"<<-?\s*(['\"]?)(\w+)\1")
_DEEPEST = 3
_MOST = 500
"""Scripts of one user but root that are followed: who writes one may name thousands of others in it."""

_LONGEST = 1 << 16
"""Characters of a script that are looked at."""


def followed(
    started: Iterable[StartedFile],
    packaged: Callable[[Sequence[str]], frozenset[str] | None],
    accounts: Accounts,
    real: RealPaths,
) -> Iterator[StartedFile]:
    """All that is started, and what the scripts among it run and read; of what has no path that can be, nothing."""
    pending = [one for one in started if "\0" not in one.path]
    yield from pending
    seen: set[tuple[str, int | None]] = set()
    done = Counter[int | None]()
    for _ in range(_DEEPEST):
        scripts = []
        for one in pending:
            key = real.of(one.path), one.uid
            if one.folder or key in seen or not _may_be_followed(one):
                continue
            owner = _owner(one.path)
            if owner == 0 or done[owner] < _MOST:
                seen.add(key)
                done[owner] += 1
                scripts.append(one)
        own = [one.path for one in scripts if not one.path.startswith("/etc/")]
        theirs = packaged(own) or frozenset()
        pending = [found for one in scripts if one.path not in theirs for found in of_script(one, accounts)]
        pending = [one for one in pending if "\0" not in one.path]
        yield from pending


def _may_be_followed(one: StartedFile) -> bool:
    return os.path.isfile(one.path) and (one.run or is_sourced(one.path))


def is_sourced(path: str) -> bool:
    """Whether a shell of root's reads a file here and does what it says, without its being executable."""
    return _SOURCED.fullmatch(path) is not None


def _owner(path: str) -> int | None:
    """Whose a file is; None where it has gone."""
    with suppress(OSError):
        return os.stat(path).st_uid
    return None


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
