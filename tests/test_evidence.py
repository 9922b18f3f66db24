"""What root and services run and read: each source in its many forms, dangers and what only looks like them."""

import importlib
import os
import pkgutil
import re
import shlex
import subprocess
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import numpy.ma  # noqa: F401  the same as of fiat below
import pytest

import fiat
from fiat.app.audit import audit
from fiat.core.audit.registry import RULES
from fiat.host.accounts.folder import from_folder
from fiat.host.evidence import sessions, units, upkeep
from fiat.host.evidence.clock import of_the_clock
from fiat.host.evidence.libraries import Libraries
from fiat.host.live.host import LiveHost
from support.dangers import (
    BOB,
    BOBS_OWN,
    CAROL,
    DANGEROUS,
    HARMLESS,
    MENTIONS,
    READS,
    SILENCES,
    Case,
    Host,
    further,
    plant,
    quoted,
)
from support.files import make
from support.kernel import as_somebody, with_places
from support.places import trusted_folder
from support.times import report

for _module in pkgutil.walk_packages(fiat.__path__, "fiat."):
    if not _module.name.endswith("__main__"):
        importlib.import_module(_module.name)  # from another root directory nothing could be imported any more


@contextmanager
def scratch() -> Iterator[Host]:
    """A host in a folder, with the kernel's own file system that every program needs."""
    with trusted_folder() as folder:
        host = Host(f"{folder}/host")
        subprocess.run(["mount", "-t", "proc", "proc", f"{host.top}/proc"], check=True)
        try:
            yield host
        finally:
            subprocess.run(["umount", "-l", f"{host.top}/proc"], check=True)


def told(host: Host, rule: str = "started-replaceable") -> dict[str, set[str]]:
    """What an audit finds within the host, by path: each text that is said of it, of dangers alone."""

    def ask() -> dict[str, set[str]]:
        os.chroot(host.top)
        os.chdir("/")
        found: dict[str, set[str]] = {}
        for one in audit(LiveHost(), ["/"], [RULES[rule]], weight="danger").weighing("danger"):
            for path in one.told.audited.paths(one.told.found.places):
                found.setdefault(path, set()).add(one.told.found.text)
        return found

    return as_somebody(None, ask)


def within(host: Host, ask: Callable[[], str]) -> str:
    """What is so where the host's folder is the root directory."""

    def there() -> str:
        os.chroot(host.top)
        return ask()

    return as_somebody(None, there)


def wrong(host: Host) -> list[str]:
    """The cases of which the audit says something else than is planned."""
    found = told(host)
    reals = _reals(host)
    return [
        f"{'missed' if one.danger else 'cried'}: {quoted(one.form)}: {one.exposure}: {one.path}"
        for one in host.cases
        if any(place in found for place in reals[one]) != one.danger
    ]


def _reals(host: Host) -> dict[Case, list[str]]:
    """Where each case may be told of: where its path leads to, or the folder that lacks it."""

    def ask() -> dict[Case, list[str]]:
        os.chroot(host.top)
        found = {}
        for one in host.cases:
            path = os.path.realpath(one.path)
            while not os.path.lexists(path):
                path = os.path.dirname(path)
            found[one] = [path, *([os.path.realpath(one.also)] if one.also else [])]
        return found

    return as_somebody(None, ask)


@pytest.mark.root
@pytest.mark.slow
@pytest.mark.parametrize("source", MENTIONS)
def test_no_danger_is_missed_and_none_is_cried(source: str) -> None:
    """Every form with every way to lie there, and every form that only seems to run it with what would be dangerous."""
    with scratch() as host:
        few = len(MENTIONS[source]) < 30  # of a source with few forms each lies there in more ways
        dangerous, harmless = (further(DANGEROUS), further(HARMLESS)) if few else (DANGEROUS, HARMLESS)
        for form, mention in MENTIONS[source].items():
            for exposure in (*dangerous, *harmless):
                plant(host, mention, form, exposure, run=True, danger=exposure in dangerous)
        for form, mention in SILENCES[source].items():
            for exposure in dangerous:
                plant(host, mention, form, exposure, run=True, danger=False)
        assert not wrong(host)
        report(f"dangers of {source}", dangers=_dangers(host), alike=len(host.cases) - _dangers(host))
        assert min(_dangers(host), len(host.cases) - _dangers(host)) >= 400


@pytest.mark.root
def test_what_is_read_counts_as_much_as_what_is_run() -> None:
    with scratch() as host:
        for form, mention in READS["read"].items():
            for exposure in (*further(DANGEROUS), *further(HARMLESS)):
                plant(host, mention, form, exposure, run=False, danger=exposure in further(DANGEROUS))
        assert not wrong(host)
        assert _dangers(host) >= 400


def _dangers(host: Host) -> int:
    return sum(one.danger for one in host.cases)


@pytest.mark.root
def test_what_somebody_runs_for_themselves_may_be_theirs() -> None:
    with scratch() as host:
        for number, mention in enumerate(BOBS_OWN):
            for exposure in (*DANGEROUS, *HARMLESS):
                others = "group" in exposure or "all" in exposure
                plant(host, mention, f"bob's {number}", exposure, run=True, danger=exposure in DANGEROUS and others)
        assert not wrong(host)


@pytest.mark.root
@pytest.mark.parametrize("exposure", [*DANGEROUS, *HARMLESS])
def test_what_is_called_dangerous_is_what_others_really_can_replace(exposure: str) -> None:
    """The labels of the other tests, by the kernel: somebody really tries to replace it, or to make it."""
    with scratch() as host:
        put = DANGEROUS.get(exposure) or HARMLESS[exposure]
        path = put(host, b"one\n", 0o111)
        before = within(host, lambda: _held(path))
        for uid, groups in ((BOB, [31001]), (CAROL, [31004, 31001])):
            as_somebody(None, lambda: _attack(host.top, path, uid, groups))  # noqa: B023
        assert (within(host, lambda: _held(path)) != before) == (exposure in DANGEROUS)


def _held(path: str) -> str:
    try:
        with open(path) as file:
            return file.read()
    except OSError:
        return ""


def _attack(top: str, path: str, uid: int, groups: list[int]) -> None:
    """Everything that somebody can try so that the path leads to text of theirs."""
    os.chroot(top)
    os.chdir("/")
    os.setgroups(groups)
    os.setgid(groups[0])
    os.setuid(uid)

    def tries(*acts: Callable[[], object]) -> None:
        for act in acts:
            try:
                act()
            except OSError:
                continue

    def write(at: str) -> None:
        with open(at, "w") as file:
            file.write("theirs\n")

    real = os.path.realpath(path)
    for whole in (real, path):
        folders = [os.path.dirname(whole)]
        while folders[-1] != "/":
            folders.append(os.path.dirname(folders[-1]))
        tries(lambda: os.chmod(whole, 0o777), lambda: write(whole))  # noqa: B023
        for folder in folders:
            tries(
                lambda: os.chmod(folder, 0o777),  # noqa: B023
                lambda: os.makedirs(os.path.dirname(whole), exist_ok=True),  # noqa: B023
                lambda: os.rename(whole, f"{whole}.old"),  # noqa: B023
                lambda: write(whole),  # noqa: B023
            )
            if folder != "/":
                tries(
                    lambda: os.rename(folder, f"{folder}.old"),  # noqa: B023
                    lambda: os.makedirs(os.path.dirname(whole), exist_ok=True),  # noqa: B023
                    lambda: write(whole),  # noqa: B023
                )


# --- judged by the programs themselves ----------------------------------------------------

_MANAGER = "/lib/systemd/systemd"

WORDS = r"""
/bin/echo a  b	c
/bin/echo "a b" 'c d' e"f g"h
/bin/echo 'a "b" c' "it's" \x41\x2fb \101 \s.
/bin/echo "\"" '\'' \\ "a\\b" \u00e4
-/bin/echo --one=two three=
@/bin/echo other "name with" spaces
+/bin/echo a ; /bin/true b ; /bin/sh -c "x; y"
/bin/echo \; a
!!/bin/sh -c 'cd /srv && ./x | tee "$HOME/y" ; exec z'
:/bin/echo $HOME ${HOME}
/bin/echo %% %n %N %p %i %u
/bin/echo a;b ;c
/bin/sh -ec "test -x /srv/a || exit 0; exec /srv/a --to=%n"
/bin/echo "" '' x
/bin/echo a# # b
"""


@pytest.mark.root
@pytest.mark.skipif(not os.path.exists(_MANAGER), reason="no systemd is here to ask")
def test_lines_of_units_are_split_as_systemd_does() -> None:
    """What its own parser makes of each line, in its test mode, as an ordinary user."""
    with trusted_folder() as folder:
        os.chmod(folder, 0o777)
        _compare_with_systemd(Path(folder))


def _compare_with_systemd(tmp_path: Path) -> None:
    lines = WORDS.strip().split("\n")
    for name in "basic shutdown sysinit default sockets timers paths".split():
        (tmp_path / f"{name}.target").write_text("[Unit]\nDefaultDependencies=no\n")
    for number, line in enumerate(lines):
        (tmp_path / f"u{number}.service").write_text(f"[Service]\nType=oneshot\nExecStart={line}\n")
    wants = "".join(f"Wants=u{number}.service\n" for number in range(len(lines)))
    (tmp_path / "all.target").write_text(f"[Unit]\nDefaultDependencies=no\n{wants}")
    env = {"XDG_RUNTIME_DIR": str(tmp_path), "HOME": str(tmp_path), "SYSTEMD_UNIT_PATH": str(tmp_path)}
    env |= {"SYSTEMD_LOG_TARGET": "console", "PATH": "/usr/bin:/bin"}
    done = subprocess.run(
        [_MANAGER, "--test", "--user", "--unit=all.target"], user=65534, group=65534, extra_groups=[], env=env,
        capture_output=True, text=True, check=False, timeout=60,
    )  # fmt: skip
    real: dict[str, list[list[str]]] = {}
    name = ""
    for line in (done.stdout + done.stderr).split("\n"):
        words = line.strip()
        if words.startswith("-> Unit "):
            name = words.removeprefix("-> Unit ").rstrip(":")
        elif words.startswith("Command Line: "):
            real.setdefault(name, []).append(shlex.split(_as_shell(words.removeprefix("Command Line: "))))
    assert len(real) == len(lines)
    for number, line in enumerate(lines):
        unit = units.Unit(
            f"u{number}.service", [f"{tmp_path}/u{number}.service"],
            units.Folders((str(tmp_path),), 65534, str(tmp_path)), LiveHost().accounts,
        )  # fmt: skip
        assert unit.command_lines("ExecStart") == real[f"u{number}.service"], line


def _as_shell(text: str) -> str:
    """A line as systemd shows it, with its escapes of ``$`` and of what is no ASCII undone."""
    return text.replace("\\$", "$")


@pytest.mark.skipif(not os.path.exists("/usr/bin/apt-config"), reason="no apt is here to ask")
def test_hooks_of_the_package_manager_are_those_that_it_reads(tmp_path: Path) -> None:
    text = """
    // a comment { "no" };
    /* DPkg::Post-Invoke { "no"; }; */
    # DPkg::Post-Invoke { "no"; };
    APT::Get::Assume-Yes "true";
    DPkg::Pre-Invoke {"one a"; "two b";};
    DPkg::Post-Invoke:: "three";
    DPkg
    {
      Post-Invoke { "if [ -x /srv/four ]; then /srv/four; fi"; };
      Pre-Install-Pkgs { "five || true"; };
    };
    APT { Update { Post-Invoke-Success { "six; seven"; }; Pre-Invoke:: "eight"; } };
    Dir::Log::Terminal "";
    """
    (tmp_path / "conf").write_text(text)
    done = subprocess.run(
        ["apt-config", "dump"], env={"APT_CONFIG": f"{tmp_path}/conf", "PATH": "/usr/bin:/bin"},
        capture_output=True, text=True, check=True,
    )  # fmt: skip
    real = []
    for line in done.stdout.split("\n"):
        name, _, value = line.partition(" ")
        if re.search(r"(?i)invoke|pre-install", name) and value != '"";':
            real.append((name.rstrip(":").lower(), value.strip()[1:-2]))
    ours = [
        (name.rstrip(":").lower(), value)
        for name, value in upkeep.apt_settings(text)
        if re.search(r"(?i)invoke|pre-install", name)
    ]
    here = [one for one in real if one[1] in {value for _, value in ours}]
    assert sorted(ours) == sorted(here)
    assert len(ours) == 7


@pytest.mark.root
def test_libraries_are_those_that_the_loader_finds() -> None:
    """Programs made for it, with folders of their own for libraries: what the loader itself lists, and who could put
    another library in one's place."""
    with trusted_folder() as folder:
        os.mkdir(f"{folder}/own")
        os.mkdir(f"{folder}/theirs")
        Path(f"{folder}/inner.c").write_text("int inner(void) { return 1; }")
        Path(f"{folder}/tide.c").write_text("int inner(void); int tide(void) { return inner(); }")
        Path(f"{folder}/main.c").write_text("int tide(void); int main(void) { return tide(); }")
        for line in (
            "cc -shared -fPIC inner.c -o own/libinner.so",
            "cc -shared -fPIC tide.c -Lown -linner -Wl,-rpath,$PWD/own -o own/libtide.so",
            "cc main.c -Lown -ltide -Wl,-rpath-link,own -Wl,-rpath,$PWD/theirs:$PWD/own -o run",
            "cc main.c -Lown -ltide -Wl,-rpath-link,own -Wl,--disable-new-dtags -Wl,-rpath,'$ORIGIN/own' -o old",
        ):
            subprocess.run(line, shell=True, cwd=folder, check=True)
        for program in (f"{folder}/run", f"{folder}/old", "/usr/bin/bash", "/usr/bin/su", "/usr/bin/systemd-analyze"):
            if not os.path.exists(program):
                continue
            listed = subprocess.run(["ldd", program], capture_output=True, text=True, check=True).stdout
            real = {os.path.realpath(path) for path in re.findall(r"=> (/\S+)", listed)}
            ours = {os.path.realpath(path) for path in Libraries().of(program) if os.path.exists(path)}
            assert {path for path in ours if "ld-linux" not in path} == real, program
        assert f"{folder}/theirs/libtide.so" in Libraries().of(f"{folder}/run")
        assert Libraries().of(f"{folder}/main.c") == ()


@pytest.mark.root
def test_a_program_with_privilege_is_no_safer_than_its_libraries() -> None:
    with scratch() as host:
        for name, uid in (("theirs", BOB), ("roots", 0)):
            place = host.folder(f"/opt/{name}", 0o755, uid)
            program = host.folder(f"/usr/local/{name}") + "/run"
            source = f"{host.top}/main.c"
            Path(source).write_text("int tide(void); int main(void) { return tide(); }")
            Path(f"{host.top}/tide.c").write_text("int tide(void) { return 1; }")
            for line in (
                f"cc -shared -fPIC tide.c -o {host.top}{place}/libtide.so",
                f"cc main.c -L{host.top}{place} -ltide -Wl,-rpath,{place} -o {host.top}{program}",
            ):
                subprocess.run(line, shell=True, cwd=host.top, check=True)
            os.chmod(host.top + program, 0o4755)
        found = told(host, "privilege-replaceable")
        assert set(found) == {"/usr/local/theirs/run"}


_PROGRAMS = os.environ.get("FIAT_TEST_PROGRAMS", "")
"""A folder with the files of packages, as they lie under the root directory; else what is installed is asked."""


def _real(name: str) -> tuple[list[str], dict[str, str]]:
    """The program of this name, and the environment that it needs; nothing to run where it is not to be had here."""
    for root in filter(None, (_PROGRAMS, "/")):
        path = os.path.join(root, "usr/sbin", name)
        if os.path.exists(path):
            libraries = [os.path.join(root, one, f"{os.uname().machine}-linux-gnu") for one in ("usr/lib", "lib")]
            return [path], {"PATH": "/usr/bin:/bin", "LD_LIBRARY_PATH": ":".join(libraries) if root != "/" else ""}
    pytest.skip(f"no {name} is here to ask")


TABLES = {
    "plain": "@reboot root {a}\n",
    "tabs": "@reboot\troot\t{b} >/dev/null 2>&1\n",
    "dot.ted": "@reboot root {c}\n",
    "saved~": "@reboot root {c}\n",
    "comment": "# @reboot root {c}\n  # @reboot root {c}\n",
    "path": "PATH={folder}:/usr/bin:/bin\n@reboot root d\n",
    "quoted_path": "PATH = '{folder}:/usr/bin:/bin'\n@reboot keeper e --now\n",
    "percent": "@reboot root {f} %{c}\n",
    "escaped": "@reboot root {g} a\\%b\n",
    "shell": "SHELL={h}\n@reboot root true\n",
    "several": "@reboot root cd {folder} && ./i; {j} &\n",
    "nobody": "@reboot nosuchuser {c}\n",
    "mail": 'MAILTO=""\nHOME=/\n@reboot keeper {k}\n',
    "value": "TOOL={l}\n@reboot root $TOOL\n",
    "conditions": "@reboot root [ -x {m} ] && {m} || {c}\n",
    "test": "@reboot root test -e {c} && {n}\n",
    "writable": "@reboot root {c}\n",
    "keepers": "@reboot root {c}\n",
    "su": "@reboot root su -s /bin/sh -c {o} keeper\n",
    "last-line-without-end": "@reboot root {p}",
}


@pytest.mark.root
def test_tables_of_the_clock_run_what_the_real_cron_runs() -> None:
    """Cron itself, started with these tables: what it runs at its start, and nothing that Fiat does not tell."""
    program, environment = _real("cron")
    with trusted_folder() as folder:
        for place in ("etc/cron.d", "etc/pam.d", "spool/crontabs", "run", "bin"):
            os.makedirs(f"{folder}/{place}", 0o755)
        os.mkdir(f"{folder}/ran", 0o777)
        os.chmod(f"{folder}/ran", 0o777)
        names = {name: f"{folder}/bin/{name}" for name in "abcdefghijklmnopq"}
        for name, path in names.items():
            make(path, 0o755, text=f"#!/bin/sh\n: > {folder}/ran/{name}\n".encode())
        Path(f"{folder}/etc/passwd").write_text(f"root:x:0:0::/root:/bin/sh\nkeeper:x:{BOB}:31001::/:/bin/sh\n")
        Path(f"{folder}/etc/group").write_text("root:x:0:\ncrew:x:31001:\ncrontab:x:31009:\n")
        Path(f"{folder}/etc/shadow").write_text("root:*:20000::::::\nkeeper:*:20000::::::\n")
        for service in ("cron", "su", "other"):
            kinds = ("auth", "account", "password", "session")
            Path(f"{folder}/etc/pam.d/{service}").write_text(
                "".join(f"{one} required pam_permit.so\n" for one in kinds)
            )
        Path(f"{folder}/etc/debian_version").write_text("12\n")
        for name, text in TABLES.items():
            make(f"{folder}/etc/cron.d/{name}", 0o644, text=text.format(folder=f"{folder}/bin", **names).encode())
        os.chmod(f"{folder}/etc/cron.d/writable", 0o664)
        os.chown(f"{folder}/etc/cron.d/keepers", BOB, 0)
        make(f"{folder}/etc/crontab", 0o644, text=b"SHELL=/bin/sh\n# nothing\n")
        own = make(f"{folder}/spool/crontabs/keeper", 0o600, text=f"@reboot {names['q']}\n".encode())
        os.chown(own, BOB, 31009)
        os.chmod(f"{folder}/spool/crontabs", 0o1730)

        def run() -> set[str]:
            with subprocess.Popen([*program, "-f"], env=environment) as cron:
                until = time.monotonic() + 60
                seen: set[str] = set()
                quiet = time.monotonic()
                while time.monotonic() < until and (not seen or time.monotonic() - quiet < 5):
                    time.sleep(0.2)
                    now = set(os.listdir(f"{folder}/ran"))
                    quiet = time.monotonic() if now != seen else quiet
                    seen = now
                cron.kill()
            return seen

        def tell() -> set[str]:
            found = of_the_clock(from_folder("/etc"))
            return {os.path.basename(one.path) for one in found if one.run and one.path.startswith(f"{folder}/bin/")}

        os.makedirs("/var/spool/cron", exist_ok=True)
        places = {"/etc": f"{folder}/etc", "/var/spool/cron": f"{folder}/spool", "/run": f"{folder}/run"}
        ran, told = with_places(places, run), with_places(places, tell)
        assert len(ran) > 12
        assert ran <= told
        assert told - ran <= {"c", "p"}  # what stands behind ||; cron reads no line without an end


SERVERS = {
    "AuthorizedKeysCommand {a} %u\nAuthorizedKeysCommandUser keeper\n": "a",
    "Port 2222\nauthorizedkeyscommand={b} %u %k\nAuthorizedKeysCommandUser keeper\nAuthorizedKeysCommand {a}\n": "b",
    "# AuthorizedKeysCommand {a}\nAuthorizedKeysCommand none\n": "",
    "Include more.conf\nAuthorizedKeysCommand {a}\nAuthorizedKeysCommandUser keeper\n": "b",
    "AuthorizedKeysCommand {a}\nInclude /etc/ssh/more.conf\n": "a",
    "AuthorizedPrincipalsCommand {c} %u\nAuthorizedPrincipalsCommandUser keeper\nPort 22\n": "c",
}


@pytest.mark.root
def test_the_ssh_server_runs_what_it_says_itself() -> None:
    """By its own test mode, which tells the settings that count for every connection."""
    program, environment = _real("sshd")
    with trusted_folder() as folder:
        for place in ("etc/ssh", "run/sshd"):
            os.makedirs(f"{folder}/{place}", 0o755)
        names = {name: make(f"{folder}/{name}", 0o755, text=b"#!/bin/sh\n") for name in "abc"}
        Path(f"{folder}/etc/passwd").write_text(
            f"root:x:0:0::/root:/bin/sh\nsshd:x:74:74::/run/sshd:/bin/false\nkeeper:x:{BOB}:31001::/:/bin/sh\n"
        )
        Path(f"{folder}/etc/group").write_text("root:x:0:\nsshd:x:74:\n")
        more = "AuthorizedKeysCommand {b}\nAuthorizedKeysCommandUser keeper\n".format(**names)
        Path(f"{folder}/etc/ssh/more.conf").write_text(more)
        key = f"{folder}/etc/ssh/key"
        subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", key], check=True)
        places = {"/etc": f"{folder}/etc", "/run": f"{folder}/run"}

        def real() -> list[str]:
            words = [*program, "-T", "-h", "/etc/ssh/key"]
            done = subprocess.run(words, env=environment, capture_output=True, text=True, check=False)
            assert done.returncode == 0, done.stderr
            lines = re.findall(r"(?m)^authorized(?:keys|principals)command (\S+)", done.stdout)
            return [line.strip('"') for line in lines if line != "none"]

        def ours() -> list[str]:
            return [one.path for one in sessions.of_ssh(from_folder("/etc")) if one.run]

        for text, expected in SERVERS.items():
            Path(f"{folder}/etc/ssh/sshd_config").write_text(text.format(**names))
            says = with_places(places, real)
            assert says == ([names[expected]] if expected else []), text
            assert with_places(places, ours) == says, text


@pytest.mark.root
def test_log_rotation_reads_what_the_real_program_reads() -> None:
    """The files that it says that it reads, and those that it refuses."""
    program, environment = _real("logrotate")
    with trusted_folder() as folder:
        os.makedirs(f"{folder}/etc/logrotate.d")
        Path(f"{folder}/etc/passwd").write_text(f"root:x:0:0::/root:/bin/sh\nkeeper:x:{BOB}:31001::/:/bin/sh\n")
        Path(f"{folder}/etc/group").write_text("root:x:0:\nadm:x:4:\ncrew:x:31001:\n")
        make(f"{folder}/etc/logrotate.conf", 0o644, text=b"weekly\ninclude /etc/logrotate.d\n")
        for name, mode, uid in (
            ("plain", 0o644, 0), ("closed", 0o600, 0), ("group", 0o664, 0), ("all", 0o646, 0), ("keepers", 0o644, BOB),
            ("saved.dpkg-old", 0o644, 0), ("saved.rpmsave", 0o644, 0), ("tilde~", 0o644, 0), ("dot.conf", 0o644, 0),
            ("off.disabled", 0o644, 0), ("comma,v", 0o644, 0), ("UPPER", 0o444, 0), ("swap.swp", 0o644, 0),
            ("back.bak", 0o644, 0), ("new.dpkg-new", 0o644, 0),
        ):  # fmt: skip
            path = make(
                f"{folder}/etc/logrotate.d/{name}", 0o644, text=f"/var/log/no-{name} {{\nmissingok\n}}\n".encode()
            )
            os.chown(path, uid, 0)
            os.chmod(path, mode)

        def real() -> set[str]:
            words = [*program, "-d", "/etc/logrotate.conf"]
            done = subprocess.run(words, env=environment, capture_output=True, text=True, check=False)
            return set(re.findall(r"considering log /var/log/no-(\S+)", done.stdout + done.stderr))

        def ours() -> set[str]:
            found = upkeep.of_log_rotation(from_folder("/etc"))
            return {os.path.basename(one.path) for one in found if "/logrotate.d/" in one.path}

        places = {"/etc": f"{folder}/etc"}
        read = with_places(places, real)
        assert len(read) >= 4
        assert with_places(places, ours) == read
