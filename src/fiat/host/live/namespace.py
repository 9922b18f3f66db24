"""The user namespace of this process: which numbers it knows, and what is shown for others (user_namespaces(7))."""

from fiat.core.model.idmap import IdMap, parse


def overflow_numbers() -> tuple[int, int]:
    """What stat(2) shows for users and groups that have no number here (proc_sys_kernel(5))."""

    def read(name: str) -> int:
        with open(f"/proc/sys/kernel/{name}", encoding="utf-8") as file:
            return int(file.read())

    return read("overflowuid"), read("overflowgid")


def own_numbers() -> IdMap | None:
    """The numbers that the user namespace of this process knows; None for that of the whole machine."""
    texts = []
    for name in ("uid_map", "gid_map"):
        try:
            with open(f"/proc/self/{name}", encoding="utf-8") as file:
                texts.append(file.read())
        except OSError:
            return None
    whole = [text.split() == ["0", "0", "4294967295"] for text in texts]
    return None if all(whole) else IdMap(parse(texts[0]), parse(texts[1]))


def effective_capabilities() -> int:
    """The effective capabilities of this process, as a mask (proc(5))."""
    with open("/proc/self/status", encoding="utf-8") as file:
        powers = next((line for line in file if line.startswith("CapEff:")), "CapEff: 0")
    return int(powers.split()[1], 16)
