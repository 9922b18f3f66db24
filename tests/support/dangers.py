"""A small host in a folder, with programs and files that root uses, each open to somebody else in some way or not.

A *mention* is a form in which a source names what root runs or reads; an *exposure* is how that lies there. Each
mention is made with each exposure, dangerous and harmless ones; *silences* are forms that name it, and never use it.
"""

import os
import shlex
from collections.abc import Callable
from typing import NamedTuple

from support.files import give_list, make

BOB, CAROL, FEED = 21001, 21002, 21004
CREW, ALONE, EMPTY = 31001, 31004, 31009
PASSWD = (
    "root:x:0:0::/root:/bin/sh\n"
    f"bob:x:{BOB}:{CREW}::/home/bob:/bin/sh\n"
    f"carol:x:{CAROL}:{ALONE}::/home/carol:/bin/sh\n"
    f"feed:x:{FEED}:{ALONE}::/srv/feed:/usr/sbin/nologin\n"
)
GROUP = f"root:x:0:\ncrew:x:{CREW}:carol\nalone:x:{ALONE}:\nempty:x:{EMPTY}:\n"
SCRIPT = b"#!/bin/sh\nexit 0\n"
PROGRAMS = "sh bash env nice flock timeout su sudo run-parts find xargs true echo rm test chmod python3 perl nohup cat"


class Case(NamedTuple):
    """What was made: the path that is named, in which form and how it lies, whether that is dangerous, and where it may
    be told of as well."""

    path: str
    form: str
    exposure: str
    danger: bool
    also: str = ""


class Host:
    """The host in a folder; paths within are as a process sees them whose root directory that folder is."""

    def __init__(self, top: str) -> None:
        self.top = top
        self.cases: list[Case] = []
        self._number = 0
        for folder in (
            "etc proc dev run usr/bin usr/sbin usr/lib home srv root var/spool/cron/crontabs opt "
            "etc/cron.d etc/cron.daily etc/systemd/system usr/lib/systemd/system lib/systemd etc/pam.d"
        ).split():
            os.makedirs(f"{top}/{folder}", 0o755, exist_ok=True)
        for name in ("bin", "sbin"):
            os.symlink(f"usr/{name}", f"{top}/{name}")
        self.folder("/tmp", 0o1777)
        self.file("/etc/debian_version", b"12\n")
        self.file("/etc/passwd", PASSWD.encode())
        self.file("/etc/group", GROUP.encode())
        self.file("/etc/logrotate.conf", b"weekly\nrotate 4\ncreate\ninclude /etc/logrotate.d\n")
        self.file("/etc/network/interfaces", b"source /etc/network/interfaces.d/*\n\nauto lo\niface lo inet loopback\n")
        self.file("/etc/sudoers", b"root ALL=(ALL:ALL) ALL\n@includedir /etc/sudoers.d\n", 0o440)
        self.file("/etc/ssh/ssh_config", b"Include /etc/ssh/ssh_config.d/*.conf\nHost *\n")
        self.file("/etc/ld.so.conf", b"include /etc/ld.so.conf.d/*.conf\n")
        self.file("/etc/rc.local", b"#!/bin/sh -e\n", 0o755)
        for name in PROGRAMS.split():
            self.file(f"/usr/bin/{name}", b"\x7fELF", 0o755)
        for name, uid in (("bob", BOB), ("carol", CAROL)):
            self.folder(f"/home/{name}", 0o755, uid)

    def file(self, path: str, text: bytes, mode: int = 0o644, uid: int = 0, gid: int = 0) -> str:
        """A file of the host; folders on the way are made as root's."""
        os.makedirs(os.path.dirname(self.top + path), 0o755, exist_ok=True)
        whole = make(self.top + path, 0o600, text=text)
        os.chown(whole, uid, gid)
        os.chmod(whole, mode)
        return path

    def add(self, path: str, line: str) -> str:
        """A line more in a file."""
        os.makedirs(os.path.dirname(self.top + path), 0o755, exist_ok=True)
        with open(self.top + path, "a") as out:
            out.write(f"{line}\n")
        if not path.endswith("rc.local"):
            os.chmod(self.top + path, 0o644)
        return path

    def folder(self, path: str, mode: int = 0o755, uid: int = 0, gid: int = 0) -> str:
        """A folder of the host."""
        os.makedirs(self.top + path, 0o755, exist_ok=True)
        os.chown(self.top + path, uid, gid)
        os.chmod(self.top + path, mode)
        return path

    def link(self, path: str, target: str) -> str:
        """A symlink of the host."""
        os.makedirs(os.path.dirname(self.top + path), 0o755, exist_ok=True)
        os.symlink(target, self.top + path)
        return path

    def fresh(self) -> str:
        """The path of a folder that is not there yet."""
        self._number += 1
        return f"/srv/{self._number:04}"

    @property
    def number(self) -> int:
        """How many were made so far: a name that nothing else has."""
        return self._number


# --- how it lies there --------------------------------------------------------------------

Exposure = Callable[[Host, bytes, int], str]
"""Puts a file with this text and mode somewhere, and says where."""


def _plain(mode: int, uid: int = 0, gid: int = 0, folder: tuple[int, int, int] = (0o755, 0, 0)) -> Exposure:
    def put(host: Host, text: bytes, execute: int) -> str:
        place = host.folder(host.fresh(), *folder)
        return host.file(f"{place}/tool", text, mode | execute, uid, gid)

    return put


def _deep(folder: tuple[int, int, int], uid: int = 0) -> Exposure:
    def put(host: Host, text: bytes, execute: int) -> str:
        place = host.folder(host.fresh(), *folder)
        return host.file(f"{place}/bin/tool", text, 0o644 | execute, uid)

    return put


def _linked(folder: tuple[int, int, int]) -> Exposure:
    def put(host: Host, text: bytes, execute: int) -> str:
        behind = host.file(f"{host.fresh()}/real", text, 0o644 | execute)
        return host.link(f"{host.folder(host.fresh(), *folder)}/tool", behind)

    return put


def _missing(folder: tuple[int, int, int], below: str = "") -> Exposure:
    def put(host: Host, text: bytes, execute: int) -> str:
        del text, execute
        return f"{host.folder(host.fresh(), *folder)}{below}/tool"

    return put


def _listed(entry: str) -> Exposure:
    def put(host: Host, text: bytes, execute: int) -> str:
        path = host.file(f"{host.fresh()}/tool", text, 0o755 if execute else 0o644)
        give_list(host.top + path, f"user::rwx,{entry},group::r-x,other::r-x")
        return path

    return put


def _by_link(put: Exposure) -> Exposure:
    def linked(host: Host, text: bytes, execute: int) -> str:
        path = put(host, text, execute)
        return host.link(f"{host.fresh()}/tool", path)

    return linked


def _by_linked_folder(put: Exposure) -> Exposure:
    """The same, through a symlink of root's to the folder that it is in."""

    def linked(host: Host, text: bytes, execute: int) -> str:
        folder, name = os.path.split(put(host, text, execute))
        return f"{host.link(f'{host.fresh()}/way', folder)}/{name}"

    return linked


def further(exposures: dict[str, Exposure]) -> dict[str, Exposure]:
    """The same exposures reached in other ways too: by a link, through a linked folder, through both."""
    ways = {"by a link": _by_link, "through a linked folder": _by_linked_folder}
    return exposures | {f"{name}, {way}": make(put) for name, put in exposures.items() for way, make in ways.items()}


_GROUPS = (0o775, 0, CREW)
DANGEROUS: dict[str, Exposure] = {
    "bob's file": _plain(0o644, BOB),
    "writable by a group": _plain(0o664, 0, CREW),
    "writable by all": _plain(0o646),
    "in bob's folder": _plain(0o644, folder=(0o755, BOB, 0)),
    "in a group's folder": _plain(0o644, folder=_GROUPS),
    "below bob's folder": _deep((0o755, BOB, 0)),
    "a link in bob's folder": _linked((0o755, BOB, 0)),
    "a link to bob's file": _by_link(_plain(0o644, BOB)),
    "not there, in bob's folder": _missing((0o755, BOB, 0)),
    "not there, below a group's": _missing(_GROUPS, "/lib"),
    "a dangling link into bob's": _by_link(_missing((0o755, BOB, 0))),
    "an entry for bob": _listed(f"user:{BOB}:rwx,mask::rwx"),
    "an entry for a group": _listed(f"group:{CREW}:rw-,mask::rwx"),
}
HARMLESS: dict[str, Exposure] = {
    "root's": _plain(0o644),
    "writable by nobody's group": _plain(0o664, 0, EMPTY),
    "bob's behind a closed folder": _plain(0o644, BOB, folder=(0o700, 0, 0)),
    "in nobody's group's folder": _plain(0o644, folder=(0o775, 0, EMPTY)),
    "below a closed folder": _deep((0o700, 0, 0), BOB),
    "a link to root's": _by_link(_plain(0o644)),
    "not there, in root's folder": _missing((0o755, 0, 0)),
    "an entry behind a mask": _listed(f"user:{BOB}:rwx,mask::r-x"),
    "an entry for nobody": _listed(f"group:{EMPTY}:rwx,mask::rwx"),
}

# --- how it is named ----------------------------------------------------------------------

Mention = Callable[[Host, str], None]
"""Names a path so that root runs or reads it, or only seems to."""

UNIT_LINES = (
    "ExecStart={p}",
    "ExecStart=-{p} --now",
    "ExecStartPre=+{p}",
    "ExecStop=@{p} other-name --quiet",
    "ExecReload=!!{p}",
    "ExecStopPost=:{p} $HOME",
    "ExecCondition={p}",
    'ExecStart="{p}" one',
    "ExecStart='{p}'",
    "ExecStart={x}",
    "ExecStart=\\\n  {p} \\\n  # a comment\n  more",
    'ExecStart=/bin/sh -c "{p} --now"',
    "ExecStart=/bin/sh -c 'cd {d} && exec ./{n}'",
    'ExecStart=/bin/bash -ec "test -x {p} && {p}"',
    "ExecStart=/bin/sh -c 'echo begins; {p} >/dev/null 2>&1'",
    "ExecStart=/usr/bin/env {p}",
    "ExecStart=/usr/bin/env KIND=tide {p}",
    "ExecStart=/usr/bin/nice -n 5 {p}",
    "ExecStart=/usr/bin/flock -n /run/lock {p} more",
    "ExecStart=/usr/bin/timeout 30 {p}",
    "ExecStart=/usr/bin/nohup {p}",
    "ExecStart=/usr/bin/python3 {p}",
    "ExecStart=/usr/bin/python3 -u {p} --loud",
    "ExecStart=/usr/bin/perl -w {p}",
    "ExecStart=/bin/sh {p}",
    "ExecStart=/bin/bash -e {p} more",
    "Environment=TOOL={p}\nExecStart=/bin/sh -c '$TOOL --now'",
    'Environment="TOOL={p}" OTHER=1\nExecStart=/bin/sh -c "exec ${{TOOL}}"',
    "WorkingDirectory={d}\nExecStart=/bin/sh -c ./{n}",
    "ExecSearchPath={d}:/usr/bin\nExecStart={n}",
    "Type=oneshot\nExecStart=/bin/true ; {p}",
    "Type=oneshot\nExecStart=/bin/true\nExecStart={p}",
    "ExecStart=/bin/false\nExecStart=\nExecStart={p}",
    "ExecStart=/usr/bin/su - bob -c '/bin/true'\nExecStop={p}",
)
UNIT_READS = ("EnvironmentFile={p}", "EnvironmentFile=-{p}")
UNIT_SILENCES = (
    "# ExecStart={p}",
    "; ExecStart={p}",
    "ExecStart={p}\nExecStart=\nExecStart=/bin/true",
    "ExecStart=/bin/true # {p}",
    "ExecStart=/bin/echo {p}",
    "ExecStart=/bin/rm -f {p}",
    "Documentation=file:{p}",
    "Description=runs {p}",
    "ExecStart=/bin/sh -c 'test -x {p}'",
    "ExecStart=/usr/bin/chmod 755 {p}",
)

CLOCK_LINES = (
    "17 *\t* * *\troot\t{p}",
    "25 6\t* * *\troot    {p} --report",
    "*/5 * * * * root {p} >/dev/null 2>&1",
    "0-59/15 1,3,5 1-7 jan-mar mon root {p}",
    "@reboot root {p}",
    "@daily\troot\t{p} &",
    "PATH={d}:/usr/bin\n* * * * * root {n}",
    "SHELL={p}\n* * * * * root true",
    "TOOL={p}\n1 1 * * * root $TOOL",
    "* * * * * root cd {d} && ./{n}",
    "* * * * * root cd {d}; exec ./{n}",
    "* * * * * root [ -x {p} ] && {p}",
    "* * * * * root test -x /none || ( cd / && {p} )",
    "* * * * * root if [ ! -d /run/none ]; then {p}; fi",
    "* * * * * root /usr/bin/flock -n /run/lock -c '{p}'",
    '* * * * * root bash -c "{p} && true"',
    "* * * * * root . {p}",
    "* * * * * root sh {p}",
    "* * * * * root sh < {p}",
    "* * * * * root D={d}; $D/{n}",
    "* * * * * root DIR={d} && ${{DIR}}/{n}",
    "* * * * * root nice -n 10 {p} | cat",
    "* * * * * root find /srv -name x -exec {p} {{}} \\;",
    "* * * * * root echo x | xargs -r {p}",
    "* * * * * root {p}%to its input",
    "* * * * * root sudo -u root {p}",
    "* * * * * root su -c '{p}' root",
    "* * * * * root true; /usr/bin/env -i {p}",
    "* * * * * root out=$({p})",
    "* * * * * root echo `{p}`",
    "* * * * * root (sleep 1; {p}) &",
    "* * * * * root eval {p}",
    "* * * * * root python3 {p} -v",
    "* * * * * root cd {d} && python3 {n}",
)
CLOCK_SILENCES = (
    "# * * * * * root {p}",
    "MAILTO={p}\n* * * * * root true",
    "* * * * * root echo {p}",
    "* * * * * root true # {p}",
    "* * * * * root rm -f {p}",
    "* * * * * root touch {p}",
    "* * * * * root test -e {p} || true",
    "* * * * * root true%{p}",
    "* * * * {p}",
)


def _words(form: str, path: str) -> str:
    escaped = "".join(f"\\x{ord(sign):02x}" if sign == "/" else sign for sign in path)
    return form.format(p=path, d=os.path.dirname(path), n=os.path.basename(path), x=escaped)


def _unit(form: str) -> Mention:
    def mention(host: Host, path: str) -> None:
        host.add(f"/etc/systemd/system/u{host.number}.service", f"[Service]\n{_words(form, path)}")

    return mention


def _table(form: str) -> Mention:
    def mention(host: Host, path: str) -> None:
        host.add(f"/etc/cron.d/t{host.number}", f"SHELL=/bin/sh\n\n{_words(form, path)}")

    return mention


def _line(where: str, form: str) -> Mention:
    def mention(host: Host, path: str) -> None:
        host.add(where.format(n=host.number), _words(form, path))

    return mention


def _in_folder(where: str, text: str = "", mode: int = 0o755) -> Mention:
    """A file of a folder whose files are run or read: a link to it, or a file that names it."""

    def mention(host: Host, path: str) -> None:
        place = where.format(n=host.number)
        if text:
            host.file(place, _words(text, path).encode(), mode)
        else:
            host.link(place, path)

    return mention


def _dropped_in(where: str) -> Mention:
    def mention(host: Host, path: str) -> None:
        number = host.number
        host.add(f"/usr/lib/systemd/system/tide-{number}.service", "[Service]\nExecStart=/bin/true")
        host.add(where.format(n=number), f"[Service]\nExecStartPost={path}")

    return mention


def _template(host: Host, path: str) -> None:
    folder, name = os.path.split(path)
    host.add(f"/usr/lib/systemd/system/i{host.number}@.service", f"[Service]\nExecStart={folder}/%i")
    wants = f"/etc/systemd/system/multi-user.target.wants/i{host.number}@{name}.service"
    host.link(wants, f"/usr/lib/systemd/system/i{host.number}@.service")


def _alias(host: Host, path: str) -> None:
    host.add(f"/usr/lib/systemd/system/a{host.number}.service", "[Service]\nExecStart=/bin/true")
    host.link(f"/etc/systemd/system/b{host.number}.service", f"/usr/lib/systemd/system/a{host.number}.service")
    host.add(f"/etc/systemd/system/b{host.number}.service.d/more.conf", f"[Service]\nExecStop={path}")


def _lingering(host: Host, path: str) -> None:
    host.add("/var/lib/systemd/linger/carol", "")
    host.folder("/home/carol/.config", 0o755, CAROL)
    host.add(f"/home/carol/.config/systemd/user/l{host.number}.service", f"[Service]\nExecStart={path}")


def _from_environment_file(host: Host, path: str) -> None:
    host.add(f"/etc/default/e{host.number}", f'TOOL="{path}"')
    host.add(
        f"/etc/systemd/system/e{host.number}.service",
        f"[Service]\nEnvironmentFile=/etc/default/e{host.number}\nExecStart=/bin/sh -c 'exec $TOOL'",
    )


def _masked(host: Host, path: str) -> None:
    host.add(f"/usr/lib/systemd/system/m{host.number}.service", f"[Service]\nExecStart={path}")
    host.link(f"/etc/systemd/system/m{host.number}.service", "/dev/null")


def _overridden(host: Host, path: str) -> None:
    host.add(f"/usr/lib/systemd/system/o{host.number}.service", f"[Service]\nExecStart={path}")
    host.add(f"/etc/systemd/system/o{host.number}.service", "[Service]\nExecStart=/bin/true")


def _masked_rule(host: Host, path: str) -> None:
    host.add(f"/usr/lib/udev/rules.d/{host.number}.rules", f'ACTION=="add", RUN+="{path}"')
    host.link(f"/etc/udev/rules.d/{host.number}.rules", "/dev/null")


def _job(host: Host, path: str) -> None:
    text = f"#!/bin/sh\n# atrun uid=0 gid=0\n# mail root 0\numask 22\ncd /srv || {{\n exit 1\n}}\n{path}\n"
    host.file(f"/var/spool/cron/atjobs/a{host.number:05}01d3b5c", text.encode(), 0o700)


def _key_command(host: Host, path: str) -> None:
    lines = f"Match User x{host.number}\n  AuthorizedKeysCommand {path} %u\n  AuthorizedKeysCommandUser root"
    host.add("/etc/ssh/sshd_config", lines)


def _library_folder(host: Host, path: str) -> None:
    host.add(f"/etc/ld.so.conf.d/{host.number}.conf", os.path.dirname(path))


MENTIONS: dict[str, dict[str, Mention]] = {
    "units": {
        **{line: _unit(line) for line in UNIT_LINES},
        "a template": _template,
        "an alias": _alias,
        "a user's unit": _lingering,
        "a variable of a file": _from_environment_file,
        **{
            where: _dropped_in(where)
            for where in (
                "/etc/systemd/system/tide-{n}.service.d/x{n}.conf",
                "/run/systemd/system/tide-{n}.service.d/x{n}.conf",
                "/etc/systemd/system/tide-.service.d/x{n}.conf",
                "/etc/systemd/system/service.d/x{n}.conf",
            )
        },
        "a socket": _line("/etc/systemd/system/s{n}.socket", "[Socket]\nExecStartPre={p}"),
        "of a generator": _line("/run/systemd/generator/g{n}.service", "[Service]\nExecStart={p}"),
        "a generator": _in_folder("/etc/systemd/system-generators/g{n}"),
    },
    "clock": {
        **{line: _table(line) for line in CLOCK_LINES},
        "the system's table": _line("/etc/crontab", "1 2 * * *\troot\t{p}"),
        "anacron's table": _line("/etc/anacrontab", "1\t5\tjob.{n}\tnice {p}"),
        "root's table": _line("/var/spool/cron/crontabs/root", "5 5 * * * {p}"),
        "a part": _in_folder("/etc/cron.daily/part{n}"),
        "a script that is a part": _in_folder("/etc/cron.daily/script{n}", "#!/bin/sh\nset -e\n# runs it\n{p} --now\n"),
        "a folder of parts": _line("/etc/crontab", "1 2 * * * root run-parts {d}"),
        "a job for once": _job,
    },
    "boot": {
        "udev RUN": _line("/etc/udev/rules.d/{n}.rules", 'ACTION=="add", KERNEL=="sd*", RUN+="{p} %k"'),
        "udev program": _line("/etc/udev/rules.d/{n}.rules", 'PROGRAM="{p}", SYMLINK+="%c"'),
        "udev RUN{program}": _line("/usr/lib/udev/rules.d/{n}.rules", 'SUBSYSTEM=="usb", RUN{{program}}+="{p}"'),
        "udev import": _line("/etc/udev/rules.d/{n}.rules", 'IMPORT{{program}}="{p} --export"'),
        "udev shell": _line("/etc/udev/rules.d/{n}.rules", "RUN+=\"/bin/sh -c 'sleep 1; {p}'\""),
        "modprobe": _line("/etc/modprobe.d/{n}.conf", "install tide{n} {p} $CMDLINE_OPTS"),
        "modprobe shell": _line(
            "/etc/modprobe.d/{n}.conf", "install tide{n} /sbin/modprobe --ignore-install tide{n} && {p}"
        ),
        "init script": _in_folder(
            "/etc/init.d/i{n}", "#!/bin/sh\nDAEMON={p}\ncase $1 in\nstart)\n\t$DAEMON\n;;\nesac\n"
        ),
        "start-stop-daemon": _in_folder(
            "/etc/init.d/i{n}", "#!/bin/sh\nstart-stop-daemon --start --quiet --exec {p} -- --daemon\n"
        ),
        "init link": _in_folder("/etc/rc2.d/S{n}"),
        "rc.local": _line("/etc/rc.local", "{p} &"),
        "loader": _line("/etc/ld.so.preload", "{p}"),
        "library folder": _library_folder,
        "kernel": _in_folder("/etc/kernel/postinst.d/k{n}"),
        "grub": _in_folder("/etc/grub.d/{n}_x"),
    },
    "upkeep": {
        "apt nested": _line(
            "/etc/apt/apt.conf.d/a{n}", 'DPkg {{ Post-Invoke {{ "if [ -x {p} ]; then {p}; fi"; }}; }};'
        ),
        "apt list": _line("/etc/apt/apt.conf.d/a{n}", 'DPkg::Pre-Install-Pkgs {{"{p} --apt || true";}};'),
        "apt flat": _line("/etc/apt/apt.conf.d/a{n}", 'APT::Update::Post-Invoke-Success:: "{p}";'),
        "apt conf": _line("/etc/apt/apt.conf.d/a{n}.conf", '// why\nDPkg::Pre-Invoke {{ "true"; "{p}"; }};'),
        "logs": _line(
            "/etc/logrotate.d/l{n}", "/var/log/x{n} {{\n weekly\n postrotate\n  [ -x {p} ] && {p}\n endscript\n}}"
        ),
        "logs before": _line(
            "/etc/logrotate.d/l{n}", "/var/log/y{n}\n{{\n\tprerotate\n\t\t{p} >/dev/null\n\tendscript\n}}"
        ),
        "logs first": _line("/etc/logrotate.d/l{n}", "/var/log/z{n} {{\nfirstaction\n{p}\nendscript\n}}"),
        "day's message": _in_folder("/etc/update-motd.d/{n}-x"),
        "if-up": _in_folder("/etc/network/if-up.d/n{n}"),
        "interfaces": _line(
            "/etc/network/interfaces", "iface tide{n} inet static\n  address 192.0.2.1\n  post-up {p} || true"
        ),
        "interfaces more": _in_folder("/etc/network/interfaces.d/m{n}", "iface z{n} inet dhcp\n\tup {p}\n", 0o644),
        "dhcp": _in_folder("/etc/dhcp/dhclient-exit-hooks.d/d{n}"),
    },
    "sessions": {
        "profile": _line("/etc/profile", ". {p}"),
        "profile runs": _line("/etc/profile", "{p} 2>/dev/null"),
        "profile.d": _in_folder("/etc/profile.d/p{n}.sh"),
        "profile.d runs": _in_folder("/etc/profile.d/q{n}.sh", "if [ -r {p} ]; then\n  . {p}\nfi\n", 0o644),
        "pam_exec": _line("/etc/pam.d/common-session", "session optional pam_exec.so quiet {p}"),
        "pam_exec more": _line("/etc/pam.d/s{n}", "auth [success=ok default=die] pam_exec.so expose_authtok {p} now"),
        "module": _line("/etc/pam.d/m{n}", "-session optional {p}"),
        "sudo": _in_folder("/etc/sudoers.d/s{n}", "carol ALL=(root) NOPASSWD: {p}, /bin/true\n", 0o440),
        "sudo alias": _in_folder(
            "/etc/sudoers.d/t{n}", "Cmnd_Alias TIDE = /bin/true, \\\n  {p}\ncarol ALL=(ALL) TIDE\n", 0o440
        ),
        "keys": _key_command,
        "proxy": _in_folder("/etc/ssh/ssh_config.d/c{n}.conf", "Host x{n}\n  ProxyCommand {p} %h\n", 0o644),
    },
}
BOBS_OWN = (
    _unit("User=bob\nExecStart={p}"),
    _unit("User=bob\nEnvironmentFile={p}\nExecStart=/bin/true"),
    _unit("User=root\nExecStart=/usr/bin/su bob -c {p}"),
    _table("* * * * * bob {p}"),
    _table("* * * * * root su bob -c {p}"),
    _table("* * * * * root su - bob -c '{p} >/dev/null'"),
    _table("* * * * * root sudo -u bob {p}"),
    _table("* * * * * root runuser -u bob -- {p}"),
    _line("/var/spool/cron/crontabs/bob", "* * * * * {p}"),
)
"""What bob himself runs: that it is his is no danger, but that others may write to it is one."""

READS: dict[str, dict[str, Mention]] = {
    "read": {
        **{line: _unit(f"{line}\nExecStart=/bin/true") for line in UNIT_READS},
        "a unit": _in_folder("/etc/systemd/system/r{n}.service"),
        "settings of a program": _unit("ExecStart=/usr/sbin/tided --config={p}"),
        "settings of a program, apart": _unit("ExecStart=/usr/sbin/tided -c {p} -v"),
        "PAM": _in_folder("/etc/pam.d/r{n}"),
        "limits": _in_folder("/etc/security/limits.d/r{n}.conf"),
        "tmpfiles": _in_folder("/etc/tmpfiles.d/r{n}.conf"),
        "sysctl": _in_folder("/etc/sysctl.d/r{n}.conf"),
        "modules": _in_folder("/etc/modprobe.d/r{n}.conf"),
        "rules": _in_folder("/etc/udev/rules.d/r{n}.rules"),
        "defaults": _in_folder("/etc/default/r{n}"),
        "sources": _in_folder("/etc/apt/sources.list.d/r{n}.list"),
        "bus": _in_folder("/etc/dbus-1/system.d/r{n}.conf"),
        "pam_env": _line("/etc/pam.d/e{n}", "session required pam_env.so readenv=1 envfile={p}"),
    },
}
SILENCES: dict[str, dict[str, Mention]] = {
    "units": {
        **{line: _unit(line) for line in UNIT_SILENCES},
        "masked": _masked,
        "overridden": _overridden,
        "another ending": _line("/etc/systemd/system/n{n}.service.bak", "[Service]\nExecStart={p}"),
        "another part": _line("/etc/systemd/system/n{n}.service.d/x.conf.old", "[Service]\nExecStart={p}"),
    },
    "clock": {
        **{line: _table(line) for line in CLOCK_SILENCES},
        "a name with a dot": _line("/etc/cron.d/n{n}.bak", "* * * * * root {p}"),
        "a part with a dot": _in_folder("/etc/cron.daily/n{n}.sh"),
        "a part that is not executable": _in_folder("/etc/cron.daily/n{n}", "#!/bin/sh\n{p}\n", 0o644),
        "a table that cron refuses": _in_folder("/etc/cron.d/w{n}", "* * * * * root {p}\n", 0o664),
    },
    "boot": {
        "a comment": _line("/etc/udev/rules.d/n{n}.rules", '# RUN+="{p}"'),
        "another ending": _line("/etc/udev/rules.d/n{n}.rules.off", 'RUN+="{p}"'),
        "masked": _masked_rule,
        "an option": _line("/etc/modprobe.d/n{n}.conf", "options tide name={p}"),
        "a comment of a script": _in_folder("/etc/init.d/n{n}", "#!/bin/sh\n# {p}\ntrue\n"),
        "a text of a script": _in_folder("/etc/init.d/m{n}", "#!/bin/sh\ncat <<TEXT\n{p}\nTEXT\n"),
    },
    "upkeep": {
        "a comment": _line("/etc/apt/apt.conf.d/n{n}", '// DPkg::Pre-Invoke {{ "{p}"; }};'),
        "a long comment": _line("/etc/apt/apt.conf.d/n{n}", '/* DPkg::Pre-Invoke {{ "{p}"; }}; */'),
        "another ending": _line("/etc/apt/apt.conf.d/n{n}.bak", 'DPkg::Pre-Invoke {{ "{p}"; }};'),
        "another option": _line("/etc/apt/apt.conf.d/n{n}", 'Dir::Log "{p}";'),
        "a log": _line("/etc/logrotate.d/n{n}", "{p} {{\n weekly\n}}"),
        "a saved one": _line("/etc/logrotate.d/n{n}.dpkg-old", "/x {{\n prerotate\n {p}\n endscript\n}}"),
        "a refused one": _in_folder("/etc/logrotate.d/r{n}", "/x {{\n prerotate\n {p}\n endscript\n}}\n", 0o664),
    },
    "sessions": {
        "a comment": _line("/etc/pam.d/n{n}", "# session optional pam_exec.so {p}"),
        "another module": _line("/etc/pam.d/n{n}", "session optional pam_motd.so motd={p}"),
        "no rule": _in_folder("/etc/sudoers.d/n{n}.bak", "carol ALL=(root) {p}\n", 0o440),
        "refused rules": _in_folder("/etc/sudoers.d/w{n}", "carol ALL=(root) {p}\n", 0o446),
    },
}


def plant(host: Host, mention: Mention, form: str, exposure: str, *, run: bool, danger: bool) -> None:
    """One case: something that lies there so, named so."""
    put = further(DANGEROUS).get(exposure) or further(HARMLESS)[exposure]
    path = put(host, SCRIPT if run else b"TIDE=1\n", 0o111 if run else 0)
    mention(host, path)
    also = os.path.dirname(path) if mention is _library_folder else ""
    host.cases.append(Case(path, form, exposure, danger, also))


def quoted(text: str) -> str:
    """A form on one line."""
    return shlex.quote(text.replace("\n", " / "))
