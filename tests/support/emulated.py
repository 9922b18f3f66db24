"""Run by another machine's Python in an emulator: that machine's ``fiat._native`` reads a tree and changes a file.

    qemu-aarch64-static -L ROOT ROOT/usr/bin/python3.11 emulated.py MODULE FOLDER

Nothing else of Fiat is needed there.
"""

import importlib.util
import os
import platform
import struct
import sys
from typing import Any


def main(path: str, folder: str) -> None:
    """Read the folder, change a file in it, and say so."""
    spec = importlib.util.spec_from_file_location("fiat._native", path)
    assert spec is not None
    assert spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    file = f"{folder}/file"
    with open(file, "x"):
        os.chmod(file, 0o640)
    os.symlink("file", f"{folder}/link")
    status, top = os.stat(file), os.open(folder, os.O_PATH)

    def read(wheres: list[tuple[int, int]]) -> tuple[Any, ...]:
        reading = module.Reading(
            top=top, roots=[(b"", None)], wheres=wheres, busy=[], program=lambda *_: 1, threads=2, most_open=8,
            told_flags=0, entry_limit=10, piece=4, shared=9, descends=True, details=True, by_name=False,
        )  # fmt: skip
        while not reading.wait(1):
            pass
        found: tuple[Any, ...] = reading.result()
        return found

    # what is not known to be alike is handed back, with where it is
    *_, ((_, _, mount, device, _, _),), _, _ = read([])
    _, _, _, births, lengths, *_, names, _, _, targets, _, _, _, _, left = read([(mount, device)])
    assert (names, targets, left) == (b"filelink", [(1, b"file")], False), (names, targets, left)
    assert struct.unpack("2H", lengths) == (4, 4)
    birth = struct.unpack("2q", births)[0]
    root = os.open("/proc/self/cwd/" + os.path.relpath("/", os.getcwd()), os.O_PATH)  # not the emulator's own
    changer = module.Changer(root=root, flags_that_count=0, lanes=2)
    changer.add_site(mount, device & 0xFFFFFFFF, device >> 32, 0)
    was = changer.add_posture(status.st_mode, status.st_uid, status.st_gid, 0, b"")
    now = changer.add_posture(status.st_mode & ~0o040, status.st_uid, status.st_gid, 0, b"")
    change = object()
    changer.learn(change, False, changer.add_change(was, now, -1, -1, 0o600, None, None, None))
    attempt = (file, ("", status.st_ino, birth), change, 1, False)
    assert changer.at_once([attempt], {"": 0}, ["there"]) == (["there"], [])
    assert os.stat(file).st_mode & 0o777 == 0o600
    print(f"{platform.machine()}: read and changed")


if __name__ == "__main__":
    main(*sys.argv[1:])
