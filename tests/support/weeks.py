"""What a week does to an estate: modes, owners, lists, moves, other files of the same name, new ones, gone ones."""

import os
import random
from contextlib import suppress

from fiat.core.model import listbytes
from fiat.core.model.listbytes import ACCESS_XATTR
from fiat.core.words.entries import parse_list
from support.estates import GROUPS, Estate
from support.files import IMMUTABLE, change_flags, flags_of

_KINDS = ("mode", "mode", "file mode", "owner", "list", "move", "move up", "replace", "new", "gone", "flag")
_MODES = (0o700, 0o750, 0o755, 0o777, 0o1777, 0o2770, 0o711)
_LIST = "u::rwx,u:21003:rwx,g::r-x,g:31001:r-x,m::r-x,o::---"


class Week:
    """Some changes of an estate, with what has become of each path: where it is now, None where it is gone."""

    def __init__(self, estate: Estate, dice: random.Random) -> None:
        self.estate = estate
        self.now = {path: path for path in estate.paths}
        self.new: set[str] = set()
        for number in range(dice.randint(3, 8)):
            with suppress(OSError):  # flags, mounts, and what is gone already
                self._change(dice, number)

    def _change(self, dice: random.Random, number: int) -> None:
        estate = self.estate
        directory, file = dice.choice(estate.directories), dice.choice(estate.files)
        what = dice.choice(
            ("mode", "mode", "file mode", "owner", "list", "move", "move up", "replace", "new", "gone", "flag")
        )
        if what == "mode":
            os.chmod(directory, dice.choice(_MODES))
        elif what == "file mode":
            os.chmod(file, dice.choice((0o600, 0o640, 0o666, 0o755, 0o4755)))
        elif what == "owner":
            os.chown(dice.choice((file, directory)), 21001, dice.choice(list(GROUPS.values())))
        elif what == "flag":
            path = dice.choice((file, directory, *estate.flagged))
            change_flags(path, 0 if flags_of(path) else IMMUTABLE)
        elif what == "list":
            os.setxattr(directory, ACCESS_XATTR, listbytes.pack(parse_list(_LIST, int, int)))
        elif what == "move":
            self._move(file, f"{directory}/moved{number}")
        elif what == "move up" and directory != estate.top:
            self._move(directory, f"{estate.top}/up{number}")
        elif what == "replace":
            os.rename(file, f"{file}.old")
            os.unlink(f"{file}.old")
            os.close(os.open(file, os.O_CREAT, 0o644))
        elif what == "new":
            os.close(os.open(f"{directory}/new{number}", os.O_CREAT | os.O_EXCL, 0o666))
            estate.files.append(f"{directory}/new{number}")
            self.new.add(f"{directory}/new{number}")
        elif what == "gone" and len(os.listdir(os.path.dirname(file))) > 1:
            os.unlink(file)
            estate.files.remove(file)
            self.now = {was: path for was, path in self.now.items() if path != file}
            self.new.discard(file)

    def _move(self, path: str, to: str) -> None:
        if any(f"{mount}/".startswith(f"{path}/") for mount in self.estate.mounts):
            return
        if len(os.listdir(os.path.dirname(path))) < 2:
            return  # a directory without anything in it goes when somebody tries to delete it
        os.rename(path, to)

        def moved(one: str) -> str:
            return to + one[len(path) :] if f"{one}/".startswith(f"{path}/") else one

        self.now = {was: moved(one) for was, one in self.now.items()}
        self.new = {moved(one) for one in self.new}
        for paths in (self.estate.directories, self.estate.files, self.estate.links, self.estate.flagged):
            paths[:] = map(moved, paths)
