/* What the files of fiat._native share. It reads and changes, and decides nothing: what a mode, a list or the first
 * bytes of a program mean is worked out in Python, from the same bytes that Python would have read itself. */
#ifndef FIAT_NATIVE_H
#define FIAT_NATIVE_H

#ifndef _GNU_SOURCE
#define _GNU_SOURCE
#endif
#define Py_LIMITED_API 0x030B0000
/* No format with '#' is used: built with the headers of 3.13, it would not work on Python 3.11. */
#include <Python.h>

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>
#include <sys/stat.h>

/* --- bytes that are numbered as they are met (numbered.c) --- */

struct key {
    uint64_t hash;
    size_t at; /* in the arena */
    uint32_t length;
};

struct numbered {
    uint32_t *slots; /* one more than a number, 0 where there is none */
    size_t room;     /* of the slots, a power of two */
    struct key *keys;
    size_t count, keys_room;
    char *arena;
    size_t used, arena_room;
};

/* The number of these bytes, a new one where they are new; -1 where there is no memory. */
int64_t numbered_find(const struct numbered *table, const void *bytes, uint32_t length); /* -1 where it has none */
int64_t numbered_number(struct numbered *table, const void *bytes, uint32_t length);
const char *numbered_bytes(const struct numbered *table, size_t number);
void numbered_free(struct numbered *table);

/* Has an array room for one more than count; false where there is no memory. */
bool grown(void *array, size_t *room, size_t count, size_t size);

static inline PyObject *bytes_of(const char *start, size_t length)
{
    return PyBytes_FromStringAndSize(start, (Py_ssize_t)length);
}

/* --- extended attributes that say something about access (attributes.c) --- */

#define ATTRIBUTES 5
#define ATTRIBUTES_OF_A_POSTURE 3 /* the lists and the capabilities: those after them are labels */
extern const char *const ATTRIBUTE_NAMES[ATTRIBUTES];

#define LONGEST_VALUE 65536 /* XATTR_SIZE_MAX and XATTR_LIST_MAX of xattr(7) */
#define NOT_SET (-1)        /* in place of a length; what is less is an errno, as -1 less that */

/* What the attributes of an object say: for each a length of 32 bits, and that many bytes. */
struct said {
    uint32_t length; /* 0 where none is set */
    char bytes[ATTRIBUTES * (sizeof(int32_t) + LONGEST_VALUE)];
};

/* Reads the first `wanted` attributes of the object that a path leads to, no link followed at its end where `links`;
 * false where it is not told which there are. */
bool attributes_read(const char *path, int wanted, bool links, struct said *said, char *scratch);

/* As the tuple that fiat.host.live.attributes.Raw is; NULL with an exception where there is no memory. */
PyObject *attributes_tuple(const char *bytes, uint32_t length);

/* --- the status of an object --- */

#define STATUS_WANTED (STATX_BASIC_STATS | STATX_BTIME | STATX_MNT_ID)
#define STATUS_BY_NAME (AT_SYMLINK_NOFOLLOW | AT_NO_AUTOMOUNT)

/* Which mount and device something is on. */
struct where {
    uint64_t mount;
    uint32_t major, minor;
};

static inline struct where where_of(const struct statx *status)
{
    struct where found = {status->stx_mnt_id, status->stx_dev_major, status->stx_dev_minor};
    return found;
}

static inline bool same_where(struct where one, struct where other)
{
    return one.mount == other.mount && one.major == other.major && one.minor == other.minor;
}

static inline int64_t nanoseconds(struct statx_timestamp time)
{
    return (int64_t)((uint64_t)time.tv_sec * 1000000000u + time.tv_nsec); /* wraps round as NumPy's do */
}

/* --- what the module offers --- */

PyObject *reading_type(PyObject *module);
PyObject *changer_type(PyObject *module);
PyObject *paths_type(PyObject *module);

#endif
