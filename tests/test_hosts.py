"""The real host and the one in memory: the same questions, the same answers; and what the real one reads."""

import os
from pathlib import Path

import pytest

from fiat.core.ask.who import Answer
from fiat.core.model.accesslist import from_mode
from fiat.core.model.glance import glance_at
from fiat.core.model.right import ALL, CREATE
from fiat.core.tree.walk import Handles, walk
from fiat.demo import build, sample
from fiat.host.accounts.folder import from_folder
from fiat.host.live import statx
from fiat.host.live import umaskfiles as umask_files
from fiat.host.live.host import LiveHost
from fiat.host.live.mounts import read_mounts
from fiat.host.snapshot import reader as snapshot
from support.files import APPEND_ONLY, IMMUTABLE, change_flags
from support.filesystems import fresh
from support.verdicts import same_verdicts
from support.worlds import World, protections


@pytest.mark.root
def test_the_sample_in_memory_and_the_built_one_answer_alike() -> None:
    image = snapshot.read(sample.SNAPSHOT)
    with fresh("here") as top, protections((1, 2, 1)):
        folder = f"{top}/sample"
        build.build(folder)
        live = LiveHost(from_folder(f"{folder}/{build.ACCOUNTS}"))
        compared = 0
        for path, found in image.objects.items():
            if not path.startswith(f"{build.TOP}/") or found.posture.flags:
                continue  # flags are not built, so that the tree can be removed
            for name in (path, f"{path}/new"):
                held, built = (walk(host, top_ + name) for host, top_ in ((image, ""), (live, folder)))
                assert held.errno == built.errno
                if held.end is None and held.missing_in is None:
                    continue
                rights = (CREATE,) if held.end is None else ALL
                compared += same_verdicts(Answer(image, held, rights), Answer(live, built, rights), rights, name)
        assert compared > 5000


def test_mounts_are_read_with_their_escapes_and_options() -> None:
    text = (
        "36 35 98:0 /m /mnt\\040two\\012lines rw,noatime,nosuid master:1 shared:2 - ext3 /dev/root ro,errors=continue\n"
        "37 35 98:1 / / rw - xfs /dev/x rw\n"
        "a line of another shape\n"
    )
    mounts = read_mounts(text)
    assert set(mounts) == {36, 37}
    assert mounts[36].point == "/mnt two\nlines"
    assert mounts[36].options == ("rw", "noatime", "nosuid")
    assert mounts[36].filesystem_options == ("ro", "errors=continue")
    assert mounts[36].read_only
    assert not mounts[37].read_only
    found = walk(LiveHost(), "/proc/self/status").end
    assert found is not None
    assert found.mount is not None
    assert (found.mount.point, found.mount.type) == ("/proc", "proc")


@pytest.mark.root
@pytest.mark.parametrize("kind", ["here", "ext4", "xfs", "btrfs", "tmpfs"])
@pytest.mark.parametrize(("flag", "name"), [(0, ()), (IMMUTABLE, ("immutable",)), (APPEND_ONLY, ("append-only",))])
def test_flags_by_ioctl_and_by_statx(kind: str, flag: int, name: tuple[str, ...]) -> None:
    with fresh(kind) as top:
        path = f"{top}/f"
        os.close(os.open(path, os.O_CREAT))
        change_flags(path, flag)
        try:
            found = walk(LiveHost(), path).end
            assert found is not None
            assert found.posture.flags == name
            fd = os.open(path, os.O_PATH)
            attributes = statx.Statx().facts(fd).flags
            os.close(fd)
            assert attributes & (IMMUTABLE | APPEND_ONLY) == flag
        finally:
            change_flags(path, 0)


def test_where_the_umask_is_set(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "login.defs").write_text("# UMASK 077\nUMASK\t\t027\n")
    (tmp_path / "profile").write_text(
        "umask 022\n# umask 000\nif true; then umask u=rwx,g=rx,o=; fi\numask g-w\nmy_umask=1\n"
    )
    (tmp_path / "common").write_text("session optional pam_umask.so usergroups umask=0002\n")
    places = ((umask_files._LOGIN_DEFS, "login.defs"), (umask_files._SHELL, "profile"), (umask_files._PAM, "common"))
    monkeypatch.setattr(umask_files, "_PLACES", [(pattern, f"{tmp_path}/{name}") for pattern, name in places])
    found = umask_files.search()
    settings = [(os.path.basename(setting.path), setting.line, setting.umask) for setting in found.settings]
    assert settings == [
        ("login.defs", 2, 0o027),
        ("profile", 1, 0o022),
        ("profile", 3, 0o027),
        ("profile", 4, None),  # depends on what held before
        ("common", 1, 0o002),
    ]
    assert len(found.read) == 3
    assert not found.unread


@pytest.mark.root
@pytest.mark.parametrize("kind", ["here", "ext4", "xfs", "btrfs", "tmpfs"])
def test_what_matches_is_what_a_glance_shows_and_a_look(kind: str) -> None:
    """Three ways to see the same object: whatever differs, it does not match; what matches, is so."""
    quickly = 0
    with fresh(kind) as top:
        for seed in range(12):
            with World(top, 500 + seed) as world:
                handles = Handles(LiveHost(world.people))
                try:
                    for path in world.objects:
                        node = handles.open(path)
                        seen = node.look(exact=True)
                        glance = node.glance()
                        assert glance == glance_at(seen), path
                        identity, posture, links = glance.identity, glance.posture, glance.links
                        site = node.matches(posture, identity, links)
                        assert site in (None, glance.site)
                        quickly += site is not None
                        others = (
                            (posture._replace(mode=posture.mode ^ 0o1), identity, links),
                            (posture._replace(gid=posture.gid + 1), identity, links),
                            (posture._replace(acl=None if posture.acl else from_mode(0o7)), identity, links),
                            (posture._replace(flags=("immutable",) if not posture.flags else ()), identity, links),
                            (posture, identity._replace(inode=identity.inode + 1), links),
                            (posture, identity._replace(birth=identity.birth + 1), links),
                            (posture, identity._replace(filesystem="other"), links),
                        )
                        assert not any(node.matches(*other) for other in others), path
                        assert posture.directory or not node.matches(posture, identity, links + 1)
                        node.close()
                finally:
                    handles.close()
    assert quickly > 100, quickly
