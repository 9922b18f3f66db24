/* Preloaded, lets the calls of fiat._native fail, or kills the process at one of them.
 *
 *   FAULT_CALL=chmod FAULT_NTH=3 FAULT_ERRNO=28   the third call of that name fails; with 0 the process is killed
 *   FAULT_SEED=7 FAULT_RATE=50                    one of so many calls fails, or answers with bytes that mean nothing
 *
 * Calls of Python itself go through.
 */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <fcntl.h>
#include <pthread.h>
#include <signal.h>
#include <stdarg.h>
#include <stdatomic.h>
#include <stdint.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <sys/types.h>
#include <sys/xattr.h>
#include <unistd.h>

static atomic_long count;
static atomic_ulong state;

static int from_native(void *caller)
{
    Dl_info info;
    return dladdr(caller, &info) && info.dli_fname && strstr(info.dli_fname, "_native");
}

static unsigned long chance(void)
{
    unsigned long now = atomic_fetch_add(&state, 0x9E3779B97F4A7C15ul);
    now = (now ^ now >> 30) * 0xBF58476D1CE4E5B9ul;
    now = (now ^ now >> 27) * 0x94D049BB133111EBul;
    return now ^ now >> 31;
}

/* Whether this call is to fail, with errno. */
static int fails(void *caller, const char *name)
{
    static const int errors[] = {EACCES, ENOENT, EIO, ENOSPC, EPERM, ENOMEM, ELOOP, ENOTDIR, EOPNOTSUPP, ERANGE, E2BIG};
    const char *call = getenv("FAULT_CALL"), *rate = getenv("FAULT_RATE");
    if ((!call && !rate) || !from_native(caller))
        return 0;
    if (call && strcmp(call, name) == 0 && atomic_fetch_add(&count, 1) + 1 == atol(getenv("FAULT_NTH"))) {
        int number = atoi(getenv("FAULT_ERRNO"));
        if (!number)
            kill(getpid(), SIGKILL);
        errno = number;
        return 1;
    }
    if (rate && chance() % strtoul(rate, NULL, 10) == 0) {
        errno = errors[chance() % (sizeof errors / sizeof *errors)];
        return 1;
    }
    return 0;
}

/* Whether the answer to this call is to be made of anything. */
static int lies(void *caller)
{
    const char *rate = getenv("FAULT_RATE");
    return rate && from_native(caller) && chance() % strtoul(rate, NULL, 10) == 0;
}

static ssize_t anything(void *into, size_t room)
{
    unsigned char *bytes = into;
    size_t length = room ? chance() % (room + 1) : 0;
    for (size_t at = 0; at < length; at++)
        bytes[at] = (unsigned char)chance();
    return (ssize_t)length;
}

#define REAL(type, name, ...) ((type(*)(__VA_ARGS__))dlsym(RTLD_NEXT, name))
#define HERE __builtin_return_address(0)

__attribute__((constructor)) static void begin(void)
{
    if (getenv("FAULT_SEED"))
        atomic_store(&state, strtoul(getenv("FAULT_SEED"), NULL, 10));
}

int statx(int fd, const char *restrict path, int flags, unsigned int mask, struct statx *restrict status)
{
    if (fails(HERE, "statx"))
        return -1;
    int found = REAL(int, "statx", int, const char *, int, unsigned int, struct statx *)(fd, path, flags, mask, status);
    if (!found && lies(HERE)) { /* what a kernel can say: of another place, another owner */
        status->stx_mnt_id += chance() % 2;
        status->stx_dev_minor += chance() % 2;
        status->stx_uid = (uint32_t)chance();
        status->stx_ino = chance();
    }
    return found;
}

ssize_t listxattr(const char *path, char *list, size_t size)
{
    if (fails(HERE, "listxattr"))
        return -1;
    return lies(HERE) ? anything(list, size) : REAL(ssize_t, "listxattr", const char *, char *, size_t)(path, list, size);
}

ssize_t llistxattr(const char *path, char *list, size_t size)
{
    if (fails(HERE, "llistxattr"))
        return -1;
    return lies(HERE) ? anything(list, size) : REAL(ssize_t, "llistxattr", const char *, char *, size_t)(path, list, size);
}

ssize_t getxattr(const char *path, const char *name, void *value, size_t size)
{
    if (fails(HERE, "getxattr"))
        return -1;
    return lies(HERE) ? anything(value, size)
                      : REAL(ssize_t, "getxattr", const char *, const char *, void *, size_t)(path, name, value, size);
}

ssize_t lgetxattr(const char *path, const char *name, void *value, size_t size)
{
    if (fails(HERE, "lgetxattr"))
        return -1;
    return lies(HERE) ? anything(value, size)
                      : REAL(ssize_t, "lgetxattr", const char *, const char *, void *, size_t)(path, name, value, size);
}

int setxattr(const char *path, const char *name, const void *value, size_t size, int flags)
{
    if (fails(HERE, "setxattr"))
        return -1;
    return REAL(int, "setxattr", const char *, const char *, const void *, size_t, int)(path, name, value, size, flags);
}

int removexattr(const char *path, const char *name)
{
    return fails(HERE, "removexattr") ? -1 : REAL(int, "removexattr", const char *, const char *)(path, name);
}

int fchownat(int fd, const char *path, uid_t uid, gid_t gid, int flags)
{
    if (fails(HERE, "chown"))
        return -1;
    return REAL(int, "fchownat", int, const char *, uid_t, gid_t, int)(fd, path, uid, gid, flags);
}

int chmod(const char *path, mode_t mode)
{
    return fails(HERE, "chmod") ? -1 : REAL(int, "chmod", const char *, mode_t)(path, mode);
}

int fchdir(int fd)
{
    return fails(HERE, "fchdir") ? -1 : REAL(int, "fchdir", int)(fd);
}

ssize_t readlink(const char *restrict path, char *restrict to, size_t size)
{
    if (fails(HERE, "readlink"))
        return -1;
    return lies(HERE) ? anything(to, size) : REAL(ssize_t, "readlink", const char *, char *, size_t)(path, to, size);
}

ssize_t read(int fd, void *into, size_t size)
{
    if (fails(HERE, "read"))
        return -1;
    return REAL(ssize_t, "read", int, void *, size_t)(fd, into, size);
}

static mode_t mode_in(int flags, va_list rest)
{
    return flags & (O_CREAT | __O_TMPFILE) ? va_arg(rest, mode_t) : 0;
}

int openat(int fd, const char *path, int flags, ...)
{
    va_list rest;
    va_start(rest, flags);
    mode_t mode = mode_in(flags, rest);
    va_end(rest);
    return fails(HERE, "openat") ? -1 : REAL(int, "openat", int, const char *, int, ...)(fd, path, flags, mode);
}

int open(const char *path, int flags, ...)
{
    va_list rest;
    va_start(rest, flags);
    mode_t mode = mode_in(flags, rest);
    va_end(rest);
    return fails(HERE, "open") ? -1 : REAL(int, "open", const char *, int, ...)(path, flags, mode);
}

int openat64(int, const char *, int, ...) __attribute__((alias("openat")));
int open64(const char *, int, ...) __attribute__((alias("open")));

int unshare(int flags)
{
    return fails(HERE, "unshare") ? -1 : REAL(int, "unshare", int)(flags);
}

int pthread_create(pthread_t *id, const pthread_attr_t *how, void *(*work)(void *), void *words)
{
    if (fails(HERE, "pthread_create"))
        return EAGAIN;
    return REAL(int, "pthread_create", pthread_t *, const pthread_attr_t *, void *(*)(void *), void *)(id, how, work, words);
}

/* getdents64(2) and fchmodat2(2), which are called by their numbers. Where chmod is to fail, there is no fchmodat2. */
long syscall(long number, ...)
{
    va_list rest;
    va_start(rest, number);
    long words[6];
    for (int one = 0; one < 6; one++)
        words[one] = va_arg(rest, long);
    va_end(rest);
    const char *call = getenv("FAULT_CALL");
    if (number != SYS_getdents64 && call && strcmp(call, "chmod") == 0) {
        errno = ENOSYS;
        return -1;
    }
    if (fails(HERE, number == SYS_getdents64 ? "getdents64" : "fchmodat2"))
        return -1;
    return REAL(long, "syscall", long, ...)(number, words[0], words[1], words[2], words[3], words[4], words[5]);
}
