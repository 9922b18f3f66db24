"""One tree like another: what has the same name gets the same posture, and what is there besides what is made there."""

import posixpath
from collections.abc import Iterator

from fiat.core.change.steps import wanted
from fiat.core.model.mode import EXECUTE_BITS
from fiat.core.model.posture import Kind, Mount, Posture
from fiat.core.model.principals import Principal
from fiat.core.model.wish import Wish
from fiat.core.rules.inheritance import Creation, made
from fiat.core.tree.survey import Survey


class LikeTree:
    """What each object of the tree ``mine`` is to be, so that it is as the tree ``model``.

    An object of another kind than that of its name in the model counts as one that is there besides. What is there
    besides gets what the directory makes of new things: a file that runs is asked for with 777, any other with 666
    (open(2)), a directory with 777 (mkdir(2)), under ``umask``; its owner stays. What has its name where the model
    was not read is left alone: nobody knows whether it is there besides.
    """

    def __init__(self, model: Survey, mine: Survey, actor: Principal, umask: int) -> None:
        self._model = model
        self._mine = mine
        self._actor = actor
        self._umask = umask

    def goals(self) -> Iterator[tuple[int, Posture]]:
        """The place of each object of ``mine`` with the posture that it is to have, parents first."""
        known = dict(self._below(self._model))
        model = [rest.posture for rest in self._model.profiles]
        mine = list(self._mine.profiles)
        becomes: dict[str, tuple[Posture, Mount | None]] = {}
        unread = self._unread()
        for name, place in self._below(self._mine):
            if name not in known and (name in unread or posixpath.dirname(name) in unread):
                unread.add(name)
                continue
            profile = mine[int(self._mine.profile[place])]
            posture = profile.posture
            there = known.get(name)
            like = None if there is None else model[int(self._model.profile[there])]
            if posture.kind is Kind.SYMLINK and (like is None or like.kind is not posture.kind):
                goal = posture
            elif like is not None and like.kind is posture.kind:
                goal = wanted(posture, Wish(like=like), self._actor, self._umask)
            else:
                goal = self._made_in(becomes[posixpath.dirname(name)], posture)
            if goal.directory:
                becomes[name] = goal, profile.mount
            yield place, goal

    def _made_in(self, parent: tuple[Posture, Mount | None], found: Posture) -> Posture:
        directory, mount = parent
        runs = found.kind is Kind.FILE and found.mode & EXECUTE_BITS
        asking = 0o777 if found.directory or runs else 0o666
        maker = self._actor._replace(uid=found.uid)
        become = made(directory, mount, found.kind, Creation(maker, found.gid, asking, self._umask))
        return found._replace(mode=become.mode, gid=become.gid, acl=become.acl, default=become.default)

    def _unread(self) -> set[str]:
        """The names in the model of what could not be looked at or listed, and of the mounts that were not entered."""
        top = len(self._model.top.path.rstrip("/")) + 1
        return {path[top:] for path in (*(one.path for one in self._model.troubles), *self._model.skipped)}

    def _below(self, survey: Survey) -> Iterator[tuple[str, int]]:
        """The name of each object, from the top on, with its place; that of the top is empty."""
        top = len(survey.top.path.rstrip("/")) + 1
        for place, path in enumerate(survey.paths()):
            yield ("" if place == 0 else path[top:]), place
