"""The guard for places: the directories and files that a Linux system needs as they are (hier(7))."""

from collections.abc import Iterator

_ITSELF = frozenset(
    """/ /boot /dev /etc /home /media /mnt /opt /proc /root /run /srv /sys /tmp /usr /var /usr/local /usr/local/bin
    /usr/local/sbin /usr/local/lib /var/lib /var/log /var/spool /var/tmp /var/cache /var/lock /var/run /var/mail
    /etc/passwd /etc/group /etc/shadow /etc/gshadow /etc/fstab /etc/hosts /etc/hostname /etc/resolv.conf
    /etc/nsswitch.conf /etc/profile /etc/ssl /etc/ssh /etc/pam.d /etc/security /etc/ld.so.conf
    /etc/ld.so.cache""".split()
)
_AND_ALL_BELOW = ("/bin", "/boot", "/dev", "/lib", "/lib32", "/lib64", "/libx32", "/proc", "/sbin", "/sys", "/usr")
_BUT = "/usr/local/"


def objections(path: str, *, with_tree: bool) -> Iterator[str]:
    """What is to be said of a change at ``path``; ``with_tree`` says that all under it is to change as well."""
    kept = any(path == top or path.startswith(f"{top}/") for top in _AND_ALL_BELOW) and not path.startswith(_BUT)
    if path in _ITSELF or kept:
        what = "all under it would change with it, and " if with_tree and path in _ITSELF else ""
        yield f"{what}the system depends on how this is set"
