"""Sources of accounts of the tests' own, as modules of the name service: each reads its files, and fails when told."""

import subprocess
from collections.abc import Iterable
from pathlib import Path
from typing import NamedTuple

from fiat.core.model.accounts import Group, User

_MODULE = r"""
#include <errno.h>
#include <grp.h>
#include <nss.h>
#include <pwd.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#define GLUE2(a, b) _nss_##a##_##b
#define GLUE(a, b) GLUE2(a, b)
#define F(name) GLUE(SOURCE, name)
#define TEXT2(a) #a
#define TEXT(a) TEXT2(a)
#define FILE_OF(kind) FOLDER "/" TEXT(SOURCE) "." kind

static int told(void) {  /* the status that it fails with, or NSS_STATUS_SUCCESS */
    FILE *f = fopen(FILE_OF("status"), "r");
    int status = NSS_STATUS_SUCCESS;
    if (f) { if (fscanf(f, "%d", &status) != 1) status = NSS_STATUS_SUCCESS; fclose(f); }
    if (status == 77) { pause(); }
    if (status == 78) { abort(); }
    return status;
}

static FILE *users, *groups;

#define OPEN(what, kind) \
    enum nss_status F(set##what)(int stay) { \
        int status = told(); if (status != NSS_STATUS_SUCCESS) return status; \
        if (kind##s) fclose(kind##s); kind##s = fopen(FILE_OF(TEXT(kind)), "r"); return NSS_STATUS_SUCCESS; } \
    enum nss_status F(end##what)(void) { if (kind##s) fclose(kind##s); kind##s = NULL; return NSS_STATUS_SUCCESS; }
OPEN(pwent, user)
OPEN(grent, group)

#define ALL(call, kind, type, reads) \
    enum nss_status F(call)(struct type *e, char *b, size_t n, int *error) { \
        struct type *found; int status = told(); if (status != NSS_STATUS_SUCCESS) return status; \
        if (!kind) return NSS_STATUS_NOTFOUND; \
        long at = ftell(kind); int failed = reads(kind, e, b, n, &found); \
        if (failed == ERANGE) { fseek(kind, at, SEEK_SET); *error = ERANGE; return NSS_STATUS_TRYAGAIN; } \
        return failed || !found ? NSS_STATUS_NOTFOUND : NSS_STATUS_SUCCESS; }
ALL(getpwent_r, users, passwd, fgetpwent_r)
ALL(getgrent_r, groups, group, fgetgrent_r)

#define ONE(call, key, kind, type, reads, same) \
    enum nss_status F(call)(key, struct type *e, char *b, size_t n, int *error) { \
        struct type *found; int failed, status = told(); if (status != NSS_STATUS_SUCCESS) return status; \
        FILE *f = fopen(FILE_OF(TEXT(kind)), "r"); if (!f) return NSS_STATUS_NOTFOUND; \
        while (!(failed = reads(f, e, b, n, &found)) && found) if (same) { fclose(f); return NSS_STATUS_SUCCESS; } \
        fclose(f); \
        if (failed == ERANGE) { *error = ERANGE; return NSS_STATUS_TRYAGAIN; } \
        return NSS_STATUS_NOTFOUND; }
ONE(getpwnam_r, const char *name, user, passwd, fgetpwent_r, !strcmp(e->pw_name, name))
ONE(getpwuid_r, uid_t uid, user, passwd, fgetpwent_r, e->pw_uid == uid)
ONE(getgrnam_r, const char *name, group, group, fgetgrent_r, !strcmp(e->gr_name, name))
ONE(getgrgid_r, gid_t gid, group, group, fgetgrent_r, e->gr_gid == gid)

#ifdef LOGINS
enum nss_status F(initgroups_dyn)(const char *user, gid_t group, long *start, long *size, gid_t **list, long limit,
                                  int *error) {
    char name[256], gids[4096]; int some = 0, status = told(); if (status != NSS_STATUS_SUCCESS) return status;
    FILE *f = fopen(FILE_OF("logins"), "r"); if (!f) return NSS_STATUS_NOTFOUND;
    while (fscanf(f, "%255[^:]:%4095[^\n]\n", name, gids) == 2)
        if (!strcmp(name, user))
            for (char *one = strtok(gids, ","); one; one = strtok(NULL, ",")) {
                if (*start == *size) { *size *= 2; *list = realloc(*list, *size * sizeof(gid_t)); }
                (*list)[(*start)++] = strtoul(one, NULL, 10);
                some = 1;
            }
    fclose(f);
    return some ? NSS_STATUS_SUCCESS : NSS_STATUS_NOTFOUND;
}
#endif
"""

WAITS, CRASHES = 77, 78
"""Instead of a status: the module waits for ever, or takes its process with it."""


class Told(NamedTuple):
    """What a source has: users, groups, what it says of logins, and its status."""

    users: Iterable[User] = ()
    groups: Iterable[Group] = ()
    logins: dict[str, list[int]] | None = None
    status: int = 1


def build(folder: str, name: str, *, logins: bool) -> None:
    """The module for a source called ``name``, that has its files in ``folder``."""
    words = ["cc", "-shared", "-fPIC", "-x", "c", "-", "-o", f"{folder}/libnss_{name}.so.2", f"-DSOURCE={name}"]
    words += [f'-DFOLDER="{folder}"', *(["-DLOGINS"] if logins else [])]
    subprocess.run(words, input=_MODULE, text=True, check=True)


def passwd(users: Iterable[User]) -> str:
    """Users as passwd(5) has them."""
    return "".join(f"{u.name}:x:{u.uid}:{u.gid}:{u.comment}:{u.home}:{u.shell}\n" for u in users)


def group(groups: Iterable[Group]) -> str:
    """Groups as group(5) has them."""
    return "".join(f"{g.name}:x:{g.gid}:{','.join(g.members)}\n" for g in groups)


def write(folder: str, name: str, told: Told) -> None:
    """What the source called ``name`` says from now on."""
    Path(f"{folder}/{name}.user").write_text(passwd(told.users))
    Path(f"{folder}/{name}.group").write_text(group(told.groups))
    Path(f"{folder}/{name}.status").write_text(str(told.status))
    logins = (told.logins or {}).items()
    Path(f"{folder}/{name}.logins").write_text("".join(f"{u}:{','.join(map(str, gids))}\n" for u, gids in logins))
