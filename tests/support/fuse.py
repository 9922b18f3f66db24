"""A file system that a process answers for (fuse(4)): it shows a folder, so that the kernel's own part can be judged.

The protocol is that of ``linux/fuse.h``, version 7.31. Every answer is given as root, and none is refused: what is
refused, the kernel refuses.
"""

import errno
import os
import stat
import struct
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from support import kernel
from support.beside import Beside

_IN = struct.Struct("<IIQQIIIHH")
_OUT = struct.Struct("<IiQ")
_ATTRIBUTES = struct.Struct("<QQQQQQIIIIIIIIII")
_NO_ANSWER = (2, 42)
"""FUSE_FORGET and FUSE_BATCH_FORGET."""


class _Server:
    """Answers the kernel's questions about one folder."""

    def __init__(self, device: int, top: str) -> None:
        self.device = device
        self.paths = {1: top}
        self.numbers = {top: 1}
        self.calls: dict[int, Callable[[int, bytes, tuple[int, int]], bytes]] = {
            1: self.lookup,
            3: self.attributes,
            4: self.change,
            5: lambda node, data, who: os.fsencode(os.readlink(self.paths[node])),
            8: self.make_node,
            9: self.make_directory,
            10: lambda node, data, who: self.remove(os.unlink, self.at(node, data)),
            11: lambda node, data, who: self.remove(os.rmdir, self.at(node, data)),
            12: lambda node, data, who: self.rename(node, data, 8),
            13: self.link,
            14: lambda node, data, who: struct.pack("<QII", 0, 0, 0),
            17: lambda node, data, who: bytes(80),
            18: lambda node, data, who: b"",
            15: self.read,
            25: lambda node, data, who: b"",
            26: self.begin,
            27: lambda node, data, who: struct.pack("<QII", 0, 0, 0),
            28: self.names,
            29: lambda node, data, who: b"",
            35: self.create,
            38: lambda node, data, who: b"",
            45: lambda node, data, who: self.rename(node, data, 16),
        }

    def run(self) -> None:
        while True:
            try:
                request = os.read(self.device, 1 << 20)
            except OSError as error:
                if error.errno in (errno.ENOENT, errno.EINTR):
                    continue
                return  # it has been unmounted
            _, call, unique, node, uid, gid, _, _, _ = _IN.unpack_from(request)
            if call in _NO_ANSWER:
                continue
            number, answer = 0, b""
            try:
                if call not in self.calls:
                    raise OSError(errno.ENOSYS, "")
                answer = self.calls[call](node, request[_IN.size :], (uid, gid))
            except OSError as error:
                number = error.errno or errno.EIO
            try:
                os.write(self.device, _OUT.pack(_OUT.size + len(answer), -number, unique) + answer)
            except OSError:
                continue  # who asked has gone

    def remove(self, call: Callable[[str], None], path: str) -> bytes:
        call(path)
        self.numbers.pop(path, None)  # what is made there next is another one
        return b""

    def at(self, node: int, data: bytes) -> str:
        return os.path.join(self.paths[node], os.fsdecode(data.split(b"\0")[0]))

    def begin(self, node: int, data: bytes, who: tuple[int, int]) -> bytes:
        return struct.pack("<IIIIHHIIHHIIH22s", 7, 31, 0, 0, 12, 9, 1 << 16, 1, 0, 0, 0, 0, 0, b"")

    def told(self, path: str) -> bytes:
        found = os.lstat(path)
        number = self.numbers.setdefault(path, len(self.paths) + 1)
        self.paths.setdefault(number, path)
        times = (int(found.st_atime), int(found.st_mtime), int(found.st_ctime), 0, 0, 0)
        return _ATTRIBUTES.pack(
            number,
            found.st_size,
            found.st_blocks,
            *times,
            found.st_mode,
            found.st_nlink,
            found.st_uid,
            found.st_gid,
            found.st_rdev & 0xFFFFFFFF,
            4096,
            0,
        )

    def entry(self, path: str) -> bytes:
        attributes = self.told(path)
        return struct.pack("<QQQQII", self.numbers[path], 0, 0, 0, 0, 0) + attributes

    def lookup(self, node: int, data: bytes, who: tuple[int, int]) -> bytes:
        return self.entry(self.at(node, data))

    def attributes(self, node: int, data: bytes, who: tuple[int, int]) -> bytes:
        return struct.pack("<QII", 0, 0, 0) + self.told(self.paths[node])

    def change(self, node: int, data: bytes, who: tuple[int, int]) -> bytes:
        path = self.paths[node]
        (what,) = struct.unpack_from("<I", data)
        mode, _, uid, gid = struct.unpack_from("<IIII", data, 68)
        if what & 6:
            os.lchown(path, uid if what & 2 else -1, gid if what & 4 else -1)
        if what & 1:
            os.chmod(path, stat.S_IMODE(mode))
        return self.attributes(node, data, who)

    def make_node(self, node: int, data: bytes, who: tuple[int, int]) -> bytes:
        mode, device, _, _ = struct.unpack_from("<IIII", data)
        path = self.at(node, data[16:])
        os.mknod(path, mode, device)
        return self.owned(path, who)

    def make_directory(self, node: int, data: bytes, who: tuple[int, int]) -> bytes:
        path = self.at(node, data[8:])
        os.mkdir(path, struct.unpack_from("<I", data)[0])
        return self.owned(path, who)

    def owned(self, path: str, who: tuple[int, int]) -> bytes:
        os.lchown(path, *who)
        return self.entry(path)

    def create(self, node: int, data: bytes, who: tuple[int, int]) -> bytes:
        path = self.at(node, data[16:])
        os.close(os.open(path, os.O_CREAT | os.O_EXCL, struct.unpack_from("<4I", data)[1] & 0o7777))
        return self.owned(path, who) + struct.pack("<QII", 0, 0, 0)

    def link(self, node: int, data: bytes, who: tuple[int, int]) -> bytes:
        path = self.at(node, data[8:])
        os.link(self.paths[struct.unpack_from("<Q", data)[0]], path, follow_symlinks=False)
        return self.entry(path)

    def rename(self, node: int, data: bytes, size: int) -> bytes:
        (other,) = struct.unpack_from("<Q", data)
        old, new = data[size:].split(b"\0")[:2]
        before, after = self.at(node, old), self.at(other, new)
        os.rename(before, after)
        for path in [path for path in self.numbers if f"{path}/".startswith(f"{before}/")]:
            number = self.numbers.pop(path)
            moved = after + path.removeprefix(before)
            self.numbers[moved], self.paths[number] = number, moved
        return b""

    def read(self, node: int, data: bytes, who: tuple[int, int]) -> bytes:
        _, offset, size = struct.unpack_from("<QQI", data)
        with open(self.paths[node], "rb") as file:
            file.seek(offset)
            return file.read(size)

    def names(self, node: int, data: bytes, who: tuple[int, int]) -> bytes:
        _, offset, size = struct.unpack_from("<QQI", data)
        found = b""
        for place, name in enumerate(sorted(os.listdir(self.paths[node]))):
            if place < offset:
                continue
            raw = os.fsencode(name)
            kind = os.lstat(f"{self.paths[node]}/{name}").st_mode >> 12
            one = struct.pack("<QQII", 1 << 40, place + 1, len(raw), kind) + raw
            one += bytes(-len(one) % 8)
            if len(found) + len(one) > size:
                break
            found += one
        return found


@contextmanager
def fuse(folder: str, point: str, options: str) -> Iterator[None]:
    """Show ``folder`` at ``point`` through a process; ``options`` are those of the mount."""
    device = os.open("/dev/fuse", os.O_RDWR)
    try:
        kernel.mount("fuse", point, f"fd={device},rootmode=40000,{options}")
    except OSError:
        os.close(device)
        raise

    server = Beside(lambda _: _Server(device, folder).run())
    os.close(device)
    try:
        yield
    finally:
        kernel.unmount(point)
        server.__exit__()
