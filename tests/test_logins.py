"""The umask and the search path of a login, judged by the real login program with each configuration."""

import os
import pty
import random
import re
import select
import time
from pathlib import Path

import pytest

from fiat.core.model.login import Login
from fiat.host.accounts.folder import from_folder
from fiat.host.logins.login import LiveLogins
from support.kernel import with_places
from support.places import trusted_folder

_PROFILE = """
if [ "$(id -u)" -eq 0 ]; then
  PATH="/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"
else
  PATH="/usr/local/bin:/usr/bin:/bin:/usr/games"
fi
export PATH
if [ "${PS1-}" ]; then
  if [ "${BASH-}" ] && [ "$BASH" != "/bin/sh" ]; then
    if [ -f /etc/bash.bashrc ]; then
      . /etc/bash.bashrc
    fi
  else
    PS1='$ '
  fi
fi
if [ -d /etc/profile.d ]; then
  for i in /etc/profile.d/*.sh; do
    if [ -r $i ]; then
      . $i
    fi
  done
  unset i
fi
"""
_OTHER_PROFILE = """
pathmunge () {
    case ":${PATH}:" in
        *:"$1":*)
            ;;
        *)
            if [ "$2" = "after" ] ; then
                PATH=$PATH:$1
            else
                PATH=$1:$PATH
            fi
    esac
}
if [ -x /usr/bin/id ]; then
    if [ -z "$EUID" ]; then
        EUID=`/usr/bin/id -u`
        UID=`/usr/bin/id -ru`
    fi
    USER="`/usr/bin/id -un`"
fi
if [ "$EUID" = "0" ]; then
    pathmunge /usr/sbin
else
    pathmunge /usr/local/sbin after
fi
if [ $UID -gt 199 ] && [ "`/usr/bin/id -gn`" = "`/usr/bin/id -un`" ]; then
    umask 002
else
    umask 022
fi
for i in /etc/profile.d/*.sh /etc/profile.d/sh.local ; do
    if [ -r "$i" ]; then
        if [ "${-#*i}" != "$-" ]; then
            . "$i"
        else
            . "$i" >/dev/null
        fi
    fi
done
unset -f pathmunge
"""
_HOME_PROFILE = """
# umask 027
if [ -n "$BASH_VERSION" ]; then
    if [ -f "$HOME/.bashrc" ]; then
\t. "$HOME/.bashrc"
    fi
fi
if [ -d "$HOME/bin" ] ; then
    PATH="$HOME/bin:$PATH"
fi
"""

SNIPPETS = (
    "umask 027",
    "umask 0002",
    "umask u=rwx,g=rx,o=",
    "umask g-w",
    "umask a=rx",
    "umask -S >/dev/null; umask 007",
    "true && umask 037; PATH=$PATH:/opt/bin",
    "PATH=/opt/tide/bin:$PATH; export PATH",
    'export PATH="$PATH:$HOME/.local/bin"',
    "export PATH=${PATH:+${PATH}:}/opt/add",
    "PATH=${PATH}:'/opt/quoted'",
    "[ -d /usr/bin ] && PATH=$PATH:/there",
    "[ -d /none ] && PATH=$PATH:/not-there",
    "test -e /none || umask 077",
    "if [ -d /none ]; then umask 077; elif [ -d /usr ]; then umask 026; else umask 000; fi",
    'case "$PATH" in *opt*) umask 070;; *) PATH=$PATH:/opt/case;; esac',
    "case $USER in keeper|steward) umask 007 ;; esac",
    "for d in /opt/one /opt/two; do PATH=$PATH:$d; done",
    "f() { PATH=$PATH:/by/$1; }\nf function",
    "(umask 077; PATH=/sub)",
    "{ umask 017; }",
    'if test "$(id -un)" = keeper; then umask 071; fi',
    'if [ "$(id -g)" -ge 100 ] && [ `id -u` != 0 ]; then PATH=/ids:$PATH; fi',
    "X=/opt/var; PATH=$PATH:$X/bin",
    "PATH+=:/plus",
    "umask 022 # umask 077",
    "echo 'umask 077' >/dev/null",
    "cat >/dev/null <<EOF\numask 077\nEOF",
    "unset NOTHING; PATH=$PATH${NOTHING:-:/default}",
    "! false && umask 013",
    "while false; do umask 077; done",
    ": umask 077",
    "umask 022 || umask 077",
    "return 0\numask 077",
)

_PAM = """auth sufficient pam_rootok.so
auth required pam_permit.so
account required pam_permit.so
password required pam_permit.so
session required pam_permit.so
{session}
"""
SESSIONS = (
    "",
    "session optional pam_umask.so",
    "session optional pam_umask.so umask=027",
    "session optional pam_umask.so usergroups",
    "session required pam_umask.so nousergroups",
    "session optional pam_umask.so umask=0077 usergroups",
    "@include common-session",
    "session include common-session",
    "session substack common-session",
    "session required pam_env.so readenv=1",
    "session required pam_env.so",
    "session required pam_env.so readenv=0",
    "session required pam_env.so readenv=1 envfile=/etc/default/other",
    "session required pam_env.so conffile=/etc/security/other.conf",
    "session [default=1] pam_permit.so\nsession requisite pam_deny.so\nsession required pam_permit.so\n"
    "session optional pam_umask.so",
    "session sufficient pam_permit.so\nsession optional pam_umask.so umask=001",
    "session [success=1 default=ignore] pam_succeed_if.so uid >= 1000 quiet\nsession optional pam_umask.so umask=003",
    "session [success=1 default=ignore] pam_succeed_if.so user ingroup crew quiet\n"
    "session optional pam_umask.so umask=005",
    "session required pam_env.so readenv=1 \\\n  user_readenv=0\nsession optional \\\n pam_umask.so umask=031",
    "# session optional pam_umask.so umask=077\nsession optional pam_umask.so # umask=077",
)
COMMONS = (
    "session required pam_unix.so\n",
    "session [default=1] pam_permit.so\nsession requisite pam_deny.so\nsession required pam_permit.so\n"
    "session required pam_unix.so\nsession optional pam_umask.so\n",
    "session optional pam_umask.so umask=025\nsession required pam_env.so readenv=1\n",
)
DEFINITIONS = (
    "UMASK 022\n", "UMASK\t\t027\n", "#UMASK 077\n", "UMASK 077\nUMASK 022\n", "", "umask 0007 \n",
)  # fmt: skip
ENV_PATHS = (
    "ENV_PATH PATH=/env/bin:/usr/bin:/bin\nENV_SUPATH\tPATH=/env/sbin:/sbin:/bin\n",
    "ENV_PATH /plain/bin\n",
    "",
)
ENVIRONMENTS = (
    "", 'PATH="/environment/bin:/usr/bin:/bin"\n', "PATH=/environment:/bin\nLANG=C\n", "export PATH=/exported\n",
    "# PATH=/none\nPATH='/quoted/bin:/bin'\n", "LANG=C\n", "PATH=$PATH:/literal\n",
)  # fmt: skip
RULES = ("", "PATH DEFAULT=/rule/bin:/bin\n", "TIDE DEFAULT=@{HOME}/x\nPATH DEFAULT=/rule:${TIDE} OVERRIDE=\n")


def _written(etc: Path, dice: random.Random) -> str:
    """A configuration in ``etc``; who logs in."""
    for folder in ("pam.d", "security", "default", "profile.d"):
        (etc / folder).mkdir(parents=True)
    choose = dice.choice
    home = etc.parent / "home"
    home.mkdir()
    shell = choose(("/bin/sh", "/bin/bash", "/bin/bash"))
    comment = choose(("", "", "", "Keeper,umask=0037,", "umask=7"))
    group = choose(("keeper", "keeper", "staff"))
    (etc / "passwd").write_text(
        f"root:x:0:0::{home}:{shell}\nkeeper:x:21001:31001:{comment}:{home}:{shell}\nnobody:x:65534:65534::/:/bin/sh\n"
    )
    crew = choose(("keeper", ""))
    (etc / "group").write_text(f"root:x:0:\n{group}:x:31001:\ncrew:x:31002:{crew}\ntty:x:5:\n")
    (etc / "shadow").write_text("root:*:19000::::::\nkeeper:*:19000::::::\n")
    (etc / "nsswitch.conf").write_text("passwd: files\ngroup: files\nshadow: files\n")
    enabled = choose(("USERGROUPS_ENAB yes\n", "USERGROUPS_ENAB no\n", ""))
    (etc / "login.defs").write_text(choose(DEFINITIONS) + enabled + choose(ENV_PATHS) + "LOGIN_TIMEOUT 60\n")
    sessions = "\n".join(dice.sample(SESSIONS, dice.randint(0, 3)))
    (etc / "pam.d" / "login").write_text(_PAM.format(session=sessions))
    (etc / "pam.d" / "common-session").write_text(choose(COMMONS))
    (etc / "pam.d" / "other").write_text("auth required pam_deny.so\n")
    (etc / "environment").write_text(choose(ENVIRONMENTS))
    (etc / "default" / "other").write_text("PATH=/other/bin:/bin\n")
    (etc / "security" / "pam_env.conf").write_text(choose(RULES))
    (etc / "security" / "other.conf").write_text("PATH DEFAULT=/others/rule:/bin\n")
    if dice.random() < 0.7:
        (etc / "profile").write_text(choose((_PROFILE, _OTHER_PROFILE, choose(SNIPPETS))))
    for place, share in (
        (etc / "profile.d" / "a.sh", 0.4), (etc / "profile.d" / "b.sh", 0.3), (etc / "profile.d" / "no.txt", 0.2),
        (etc / "bash.bashrc", 0.3), (home / ".bashrc", 0.4), (home / ".bash_profile", 0.2),
    ):  # fmt: skip
        if dice.random() < share:
            place.write_text("\n".join(dice.sample(SNIPPETS, dice.randint(1, 3))) + "\n")
    if dice.random() < 0.6:
        (home / ".profile").write_text(
            choose((_HOME_PROFILE, _HOME_PROFILE, "\n".join(dice.sample(SNIPPETS, 2)) + "\n"))
        )
    if dice.random() < 0.3:
        (home / "bin").mkdir()
    (home / ".hushlogin").write_text("")
    return "keeper" if dice.random() < 0.85 else "root"


def _really(name: str) -> tuple[int, str]:
    """The umask and the search path that the real program gives."""
    child, terminal = pty.fork()
    if not child:
        os.umask(0o022)
        os.environ.clear()
        os.execv("/usr/bin/login", ["login", "-f", name])
    os.write(terminal, b"umask; printf 'PA%s%s:END\\n' TH: \"$PATH\"; exit 0\n")
    output, until = b"", time.monotonic() + 20
    while time.monotonic() < until:
        ready, _, _ = select.select([terminal], [], [], 0.5)
        try:
            piece = os.read(terminal, 4096) if ready else None
        except OSError:
            break
        if piece == b"":
            break
        output += piece or b""
    os.waitpid(child, 0)
    text = output.decode(errors="replace")
    mask = re.search(r"(?m)^[^\n]*?(0[0-7]{3})\r?$", text)
    path = re.search(r"PATH:([^\n]*):END", text)
    assert mask is not None, text
    assert path is not None, text
    return int(mask[1], 8), path[1]


def disagreement(seed: int) -> str:
    """What Fiat says otherwise than the real program, of one configuration; empty where they agree."""
    with trusted_folder() as folder:
        etc = Path(folder) / "etc"
        etc.mkdir()
        name = _written(etc, random.Random(seed))

        def both() -> tuple[Login, tuple[int, str]]:
            accounts = from_folder("/etc")
            account = accounts.user_named(name)
            assert account is not None
            return LiveLogins(accounts).of(account), _really(name)

        ours, (mask, path) = with_places({"/etc": str(etc)}, both)
        if (ours.mask, ":".join(ours.path)) == (mask, path):
            return ""
        if ours.open_ends and ours.mask == mask:
            return ""
        return f"{seed}: {name}: {ours.mask:04o} {':'.join(ours.path)} really {mask:04o} {path} {ours}"


@pytest.mark.root
@pytest.mark.slow
@pytest.mark.skipif(not os.path.exists("/usr/bin/login"), reason="no login program is here to ask")
def test_a_login_gets_what_the_real_program_gives() -> None:
    first = int(os.environ.get("FIAT_JUDGE_SEED", "1"))
    wrong = [
        found
        for seed in range(first, first + int(os.environ.get("FIAT_JUDGE_LOGINS", "150")))
        if (found := disagreement(seed))
    ]
    assert not wrong, "\n".join(wrong[:10])
