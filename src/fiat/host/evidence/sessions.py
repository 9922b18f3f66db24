"""What logins and sessions bring about: programs named in pam.conf(5), sudoers(5), sshd_config(5), ssh_config(5)."""

import os
import re
from collections.abc import Iterator

from fiat.core.audit.evidence import StartedFile
from fiat.core.model.accounts import Accounts
from fiat.host.evidence.commandlines import Setting, of_command, of_shell, of_words
from fiat.host.evidence.texts import files_like, lines_of

_PAM = re.compile(
    r"(?:-?(?:auth|account|password|session)|\S+\s+-?(?:auth|account|password|session))\s+(\[[^\]]*\]|\S+)\s+(\S+)\s*(.*)"
)
_SERVER = re.compile(r"(?i)(AuthorizedKeysCommand|AuthorizedPrincipalsCommand)[\s=]+(.*)")
_SERVER_USER = re.compile(r"(?i)(AuthorizedKeys|AuthorizedPrincipals)CommandUser[\s=]+(\S+)")
_CLIENT = re.compile(r"(?i)(?:ProxyCommand|LocalCommand|KnownHostsCommand|Match\s+.*\bexec)[\s=]+(.*)")
_INCLUDED = re.compile(r"(?i)Include[\s=]+(.*)")
_DIRECTIVE = re.compile(r"[#@]include(dir)?\s+(\S+)")
_SUDO_COMMAND = re.compile(r"(?<=[\s,:=!])(/[^\s,:=\\]+)")


def of_pam() -> Iterator[StartedFile]:
    """Modules named with their whole path, and what pam_exec(8) runs; the environment files of pam_env(8)."""
    for path in files_like("/etc/pam.conf", "/etc/pam.d/*"):
        setting = Setting(0, f"login {path}")
        for line in lines_of(path):
            found = _PAM.fullmatch(line)
            if found is None:
                continue
            module, words = found[2], found[3].split()
            if module.startswith("/"):
                yield setting.started(module, run=False)
            if os.path.basename(module) == "pam_exec.so":
                command = [place for place, word in enumerate(words) if word.startswith("/")]
                if command:
                    yield from of_words(words[command[0] :], setting)
            for word in words:
                name, _, value = word.partition("=")
                if name in ("envfile", "conffile", "user_envfile") and value.startswith("/"):
                    yield setting.started(value, run=False)


def of_sudo() -> Iterator[StartedFile]:
    """The rules that sudo reads, and what others may run by them as somebody else.

    A file that others may write to, or that is not root's, is refused by sudo, and so says nothing.
    """
    yield from _sudo_rules("/etc/sudoers", set())


def _sudo_rules(path: str, seen: set[str]) -> Iterator[StartedFile]:
    if path in seen or not os.path.isfile(path):
        return
    seen.add(path)
    setting = Setting(0, f"sudo {path}")
    try:
        found = os.stat(path)
    except OSError:
        return
    if found.st_uid != 0 or found.st_mode & 0o002 or (found.st_mode & 0o020 and found.st_gid != 0):
        return
    yield setting.started(path, run=False)
    for line in _with_directives(path):
        directive = _DIRECTIVE.match(line)
        if directive is not None and directive[1]:
            folder = os.path.join(os.path.dirname(path), directive[2])
            if os.path.isdir(folder):
                yield setting.started(folder, run=False, folder=True)
            for one in files_like(f"{folder}/*"):
                name = os.path.basename(one)
                if "." not in name and not name.endswith("~"):
                    yield from _sudo_rules(one, seen)
        elif directive is not None:
            yield from _sudo_rules(os.path.join(os.path.dirname(path), directive[2]), seen)
        elif not line.startswith(("#", "Defaults")):
            for command in _SUDO_COMMAND.findall(line):
                if not any(sign in command for sign in "*?["):
                    yield setting.started(command, folder=command.endswith("/"))


def _with_directives(path: str) -> Iterator[str]:
    from fiat.host.evidence.texts import text_of

    for line in text_of(path).replace("\\\n", " ").split("\n"):
        stripped = line.strip()
        if stripped and (not stripped.startswith("#") or _DIRECTIVE.match(stripped)):
            yield stripped


def of_ssh(accounts: Accounts) -> Iterator[StartedFile]:
    """What the server of ssh runs to find keys, and what its client runs of the whole host's settings.

    Of the server the first value of each setting counts (sshd_config(5)), and in a block for some connections each.
    """
    users: dict[str, str] = {}
    commands: list[tuple[str, str, str]] = []
    decided: set[str] = set()
    for path, line, always in _server_lines("/etc/ssh/sshd_config", set()):
        whose, command = _SERVER_USER.fullmatch(line), _SERVER.fullmatch(line)
        if whose is not None:
            users.setdefault(whose[1].lower(), whose[2].strip('"'))
        elif command is not None:
            kind = command[1].lower().removesuffix("command")
            if kind not in decided:
                commands.append((path, kind, command[2]))
            decided |= {kind} if always else set()
    for path, kind, line in commands:
        if line.strip('"').lower() != "none":
            setting = Setting(0, f"ssh server {path}", accounts=accounts).as_user(users.get(kind, "root"))
            yield from of_command(line, setting)
    for path in _with_included("/etc/ssh/ssh_config", "/etc/ssh", set()):
        for line in lines_of(path):
            client = _CLIENT.fullmatch(line)
            if client is not None and client[1].lower() != "none":
                yield from of_shell(client[1].strip('"'), Setting(0, f"ssh client {path}", accounts=accounts))


def _server_lines(path: str, seen: set[str]) -> Iterator[tuple[str, str, bool]]:
    """The lines of the server's settings, with those of files that are put in, in their order; and whether each is for
    every connection."""
    if path in seen or not os.path.isfile(path):
        return
    seen.add(path)
    always = True
    for line in lines_of(path):
        included = _INCLUDED.fullmatch(line)
        if re.match(r"(?i)Match[\s=]", line):
            always = re.fullmatch(r"(?i)Match[\s=]+all", line) is not None
        elif included is not None:
            for word in included[1].split():
                for one in files_like(os.path.join("/etc/ssh", word.strip('"'))):
                    yield from ((where, text, of_all and always) for where, text, of_all in _server_lines(one, seen))
        else:
            yield path, line, always


def _with_included(path: str, folder: str, seen: set[str]) -> Iterator[str]:
    if path in seen or not os.path.isfile(path):
        return
    seen.add(path)
    yield path
    for line in lines_of(path):
        found = _INCLUDED.fullmatch(line)
        for word in found[1].split() if found is not None else ():
            for one in files_like(os.path.join(folder, word.strip('"'))):
                yield from _with_included(one, folder, seen)
