"""Overlays for tests: mounted over the very folder whose tree they show, so that its paths stay what they were."""

import os
import tempfile
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager

from support.filesystems import fresh
from support.kernel import SYS_ADMIN, as_somebody, bind, keep_capabilities, mount, unmount
from support.worlds import World


@contextmanager
def elsewhere(path: str) -> Iterator[str]:
    """Another path at which the same is mounted, and stays to be seen when something is mounted over it."""
    with tempfile.TemporaryDirectory(prefix="fiat-test-") as folder:
        bind(path, folder)
        try:
            yield folder
        finally:
            unmount(folder)


@contextmanager
def overlay(lower: str, upper: str | None, options: str = "", powers: int | None = None) -> Iterator[None]:
    """Mount an overlay over the folder ``lower`` that shows it, changes to which go to a folder in ``upper``.

    Who mounts it is root, with just these capabilities where they are given.
    """
    with ExitStack() as made:
        layers = f"lowerdir={made.enter_context(elsewhere(lower))}"
        if upper is None:
            layers += f":{made.enter_context(tempfile.TemporaryDirectory(prefix='fiat-test-'))}"
        else:
            for name in ("upper", "work"):
                os.mkdir(f"{upper}/{name}", 0o755)
            os.chmod(f"{upper}/upper", os.stat(lower).st_mode & 0o7777)
            layers += f",upperdir={upper}/upper,workdir={upper}/work"
        whole = ",".join(filter(None, (layers, options)))
        as_somebody(None, lambda: _mount(whole, lower, powers))
        try:
            yield
        finally:
            unmount(lower)


def _mount(options: str, point: str, powers: int | None) -> None:
    if powers is not None:
        keep_capabilities(powers | SYS_ADMIN, 0)
    mount("overlay", point, options)


@contextmanager
def seen_overlaid(world: World, upper: str | None, options: str = "", powers: int | None = None) -> Iterator[None]:
    """Look at the world through an overlay whose upper layer is on a file system of that kind, and has some of it."""
    with ExitStack() as made:
        folder = None if upper is None else made.enter_context(fresh(upper))
        made.enter_context(overlay(os.path.dirname(world.top), folder, options, powers))
        for path in world.objects:
            if upper is not None and world.random.random() < 0.3 and not world.flagged(path):
                status = os.lstat(path)
                os.chown(path, status.st_uid, status.st_gid, follow_symlinks=False)  # which copies it up
                world.set_again(path)
        yield
