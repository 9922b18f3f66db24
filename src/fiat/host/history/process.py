"""Which process is at work on a run, told so that no later process is taken for it."""

import os


def this_process() -> str:
    """What tells this process from any other, before and after a restart of the machine too."""
    return f"{os.getpid()} {_started(os.getpid())}"


def still_runs(process: str) -> bool:
    """Whether the process that :func:`this_process` named is still there."""
    number, _, started = process.partition(" ")
    return number.isascii() and number.isdecimal() and bool(started) and _started(int(number[:18])) == started


def _started(pid: int) -> str:
    """When a process began, with the number of this boot (proc(5)); empty where there is none."""
    try:
        with open(f"/proc/{pid}/stat", "rb") as file:
            since = file.read().rpartition(b")")[2].split()[19].decode()
        with open("/proc/sys/kernel/random/boot_id", "rb") as file:
            return f"{since} {file.read().strip().decode()}"
    except OSError:
        return ""
