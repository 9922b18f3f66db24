"""Files and folders that programs of root read or run by themselves, of which nothing but their place has to be known.

Each row says by what; its source is the manual page of that program. A pattern that ends in a slash is a folder: what
is added to it counts too.
"""

import glob
import os
from collections.abc import Iterator

from fiat.core.audit.evidence import StartedFile
from fiat.core.model.accounts import Accounts
from fiat.host.evidence.commandlines import Setting, is_program, run_parts
from fiat.host.evidence.scripts import is_sourced
from fiat.host.evidence.texts import files_like, is_open_to_others, is_roots_alone, number_of

_READ = {
    "accounts": "/etc/passwd /etc/shadow /etc/group /etc/gshadow /etc/subuid /etc/subgid /etc/nsswitch.conf "
    "/etc/login.defs /etc/default/useradd /etc/adduser.conf",
    "a shell of root at login": "/etc/profile /etc/profile.d/ /etc/bash.bashrc /etc/bashrc /etc/bash_completion.d/ "
    "/etc/zsh/zshenv /etc/zsh/zprofile /etc/zsh/zshrc /etc/zsh/zlogin /etc/zshenv /etc/zprofile /etc/zshrc "
    "/etc/csh.cshrc /etc/csh.login /etc/ksh.kshrc /etc/mkshrc /etc/fish/conf.d/ /etc/environment /etc/environment.d/",
    "every login (PAM)": "/etc/pam.conf /etc/pam.d/ /etc/security/pam_env.conf /etc/security/access.conf "
    "/etc/security/group.conf /etc/security/limits.conf /etc/security/limits.d/ /etc/security/namespace.init",
    "sudo": "/etc/sudo.conf",
    "the ssh server": "/etc/ssh/sshd_config /etc/ssh/sshd_config.d/ /etc/ssh/sshrc",
    "every ssh client": "/etc/ssh/ssh_config /etc/ssh/ssh_config.d/",
    "systemd": "/etc/systemd/*.conf /etc/systemd/*.conf.d/ /etc/tmpfiles.d/ /run/tmpfiles.d/ /usr/lib/tmpfiles.d/ "
    "/etc/sysusers.d/ /usr/lib/sysusers.d/ /etc/binfmt.d/ /usr/lib/binfmt.d/",
    "the kernel's settings": "/etc/sysctl.conf /etc/sysctl.d/ /run/sysctl.d/ /usr/lib/sysctl.d/",
    "mounting": "/etc/fstab /etc/crypttab /etc/exports /etc/exports.d/ /etc/auto.master /etc/auto.master.d/",
    "loading of modules": "/etc/modules /etc/modules-load.d/ /usr/lib/modules-load.d/ /etc/modprobe.d/ "
    "/run/modprobe.d/ /usr/lib/modprobe.d/",
    "udev": "/etc/udev/rules.d/ /run/udev/rules.d/ /usr/lib/udev/rules.d/",
    "every program's loader": "/etc/ld.so.preload /etc/ld.so.conf /etc/ld.so.conf.d/ /etc/ld.so.cache",
    "the package manager": "/etc/apt/apt.conf /etc/apt/apt.conf.d/ /etc/apt/sources.list /etc/apt/sources.list.d/ "
    "/etc/apt/preferences.d/ /etc/apt/trusted.gpg /etc/apt/trusted.gpg.d/ /etc/dpkg/dpkg.cfg /etc/dpkg/dpkg.cfg.d/ "
    "/var/lib/dpkg/info/ /etc/yum.conf /etc/yum.repos.d/ /etc/dnf/dnf.conf",
    "scripts at boot": "/etc/inittab /etc/default/",
    "the message bus": "/etc/dbus-1/system.d/ /usr/share/dbus-1/system.d/ /usr/share/dbus-1/system-services/",
    "the log server": "/etc/rsyslog.conf /etc/rsyslog.d/ /etc/syslog.conf",
    "the network": "/etc/network/interfaces /etc/network/interfaces.d/ /etc/dhcp/dhclient.conf /etc/netplan/ "
    "/etc/NetworkManager/NetworkManager.conf /etc/NetworkManager/conf.d/ /etc/NetworkManager/system-connections/",
    "servers on demand": "/etc/inetd.conf /etc/xinetd.conf /etc/xinetd.d/",
    "names of hosts": "/etc/hosts /etc/resolv.conf /etc/hosts.allow /etc/hosts.deny",
    "trust in certificates": "/etc/ssl/certs/ /usr/local/share/ca-certificates/ /etc/ca-certificates.conf",
    "what starts the kernel": "/boot/ /boot/grub/ /boot/grub/grub.cfg /boot/loader/entries/",
    "every Python program": "/usr/lib/python3/dist-packages/ /usr/local/lib/python3*/dist-packages/ "
    "/usr/lib/python3*/site-packages/ /usr/local/lib/python3*/site-packages/ /etc/python3*/",
    "every Perl program": "/etc/perl/ /usr/local/share/perl/*/ /usr/local/lib/*/perl/*/",
}
"""What is only read, by what reads it."""

_READ_AS = {
    "polkitd": "/etc/polkit-1/rules.d/ /usr/share/polkit-1/rules.d/ /usr/share/polkit-1/actions/ "
    "/var/lib/polkit-1/localauthority/*/",
}
"""What a service reads as its own user, whom these folders may belong to."""

_RUN = {
    "scripts at boot": "/etc/rc.local /etc/rc.d/rc.local /etc/init.d/ /etc/rc.d/init.d/ /etc/rcS.d/ /etc/rc?.d/",
    "the message of the day": "/etc/update-motd.d/",
    "programs for udev": "/usr/lib/udev/",
    "the network": "/etc/NetworkManager/dispatcher.d/ /etc/NetworkManager/dispatcher.d/*.d/ "
    "/usr/lib/NetworkManager/dispatcher.d/ /etc/networkd-dispatcher/*.d/",
    "boot loader": "/etc/grub.d/",
    "the initial file system": "/etc/initramfs-tools/hooks/ /etc/initramfs-tools/scripts/*/",
    "a new kernel": "/etc/kernel/install.d/",
    "suspending": "/etc/pm/sleep.d/ /usr/lib/pm-utils/sleep.d/",
    "certificates": "/etc/ca-certificates/update.d/",
}
"""What is run where it is executable, whatever its name."""

_PARTS = {
    "the network": "/etc/network/if-up.d /etc/network/if-down.d /etc/network/if-pre-up.d /etc/network/if-post-down.d "
    "/etc/dhcp/dhclient-enter-hooks.d /etc/dhcp/dhclient-exit-hooks.d /etc/ppp/ip-up.d /etc/ppp/ip-down.d "
    "/etc/resolvconf/update.d",
    "a new kernel": "/etc/kernel/postinst.d /etc/kernel/postrm.d /etc/kernel/preinst.d /etc/kernel/prerm.d",
}
"""Folders whose programs are run as run-parts(8) does."""

_ONLY_ROOTS = ("/etc/NetworkManager/dispatcher.d", "/usr/lib/NetworkManager/dispatcher.d")
"""There a program is run only where it is root's and nobody else may write to it (NetworkManager-dispatcher(8))."""


def of_configuration(accounts: Accounts) -> Iterator[StartedFile]:
    """What lies in these places on this host, and the folders themselves."""
    for user, patterns in _READ_AS.items():
        for pattern in patterns.split():
            yield from _places(pattern, Setting(number_of(user, accounts) or 0, f"service of {user}"), run=False)
    for by, patterns in _READ.items():
        for pattern in patterns.split():
            yield from _places(pattern, Setting(0, by), run=False)
    for by, patterns in _RUN.items():
        for pattern in patterns.split():
            yield from _places(pattern, Setting(0, by), run=True)
    for by, folders in _PARTS.items():
        for folder in folders.split():
            if os.path.isdir(folder):
                yield Setting(0, by).started(folder, folder=True)
                yield from (Setting(0, by).started(path) for path in run_parts(folder))


def _places(pattern: str, setting: Setting, *, run: bool) -> Iterator[StartedFile]:
    if not pattern.endswith("/"):
        for path in files_like(pattern):
            if not run or is_program(path):
                yield setting.started(path, run=run)
        return
    for folder in sorted(glob.glob(pattern)):
        yield setting.started(folder, run=run, folder=True)
        for path in files_like(f"{glob.escape(folder)}*"):
            if not run and (is_sourced(path) or not is_roots_alone(path)):
                yield setting.started(path, run=False)
            elif run and is_program(path) and not (_is_only_roots(folder) and is_open_to_others(path)):
                yield setting.started(path)


def _is_only_roots(folder: str) -> bool:
    return folder.startswith(_ONLY_ROOTS)
