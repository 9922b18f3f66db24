/* Extended attributes that say something about access (xattr(7)): the bytes, as the kernel gives them. */
#include "native.h"

#include <errno.h>
#include <string.h>
#include <sys/xattr.h>

/* In the order of fiat.host.live.attributes.NAMES; a test says so. */
const char *const ATTRIBUTE_NAMES[ATTRIBUTES] = {
    "system.posix_acl_access", "system.posix_acl_default", "security.capability", "security.selinux",
    "security.SMACK64",
};

static int place_of(const char *name, int wanted)
{
    for (int place = 0; place < wanted; place++)
        if (strcmp(name, ATTRIBUTE_NAMES[place]) == 0)
            return place;
    return -1;
}

/* The kernel gets as much memory as there is room for, with each call: mostly little will do. */
#define ROOM 256

static ssize_t list_of(const char *path, bool links, char *names, size_t room)
{
    return links ? llistxattr(path, names, room) : listxattr(path, names, room);
}

static ssize_t value_of(const char *path, const char *name, bool links, char *value, size_t room)
{
    return links ? lgetxattr(path, name, value, room) : getxattr(path, name, value, room);
}

bool attributes_read(const char *path, int wanted, bool links, struct said *said, char *scratch)
{
    said->length = 0;
    ssize_t listed = list_of(path, links, scratch, ROOM);
    if (listed < 0 && errno == ERANGE)
        listed = list_of(path, links, scratch, LONGEST_VALUE);
    bool asked[ATTRIBUTES] = {false}, any = false;
    for (ssize_t at = 0; at < listed;) {
        const char *name = scratch + at;
        size_t length = strnlen(name, (size_t)(listed - at));
        if (length == (size_t)(listed - at))
            break; /* not ended: no name */
        int place = place_of(name, wanted);
        if (place >= 0)
            asked[place] = any = true;
        at += (ssize_t)length + 1;
    }
    if (!any)
        return listed >= 0;
    bool set = false;
    uint32_t used = 0;
    for (int place = 0; place < ATTRIBUTES; place++) {
        int32_t length = NOT_SET;
        char *value = said->bytes + used + sizeof length;
        if (asked[place]) {
            ssize_t found = value_of(path, ATTRIBUTE_NAMES[place], links, value, ROOM);
            if (found < 0 && errno == ERANGE)
                found = value_of(path, ATTRIBUTE_NAMES[place], links, value, LONGEST_VALUE);
            if (found >= 0)
                length = (int32_t)found;
            else if (errno != ENODATA && errno != EOPNOTSUPP)
                length = NOT_SET - errno;
            set = set || length != NOT_SET;
        }
        memcpy(said->bytes + used, &length, sizeof length);
        used += sizeof length + (length > 0 ? (uint32_t)length : 0);
    }
    said->length = set ? used : 0;
    return true;
}

PyObject *attributes_tuple(const char *bytes, uint32_t length)
{
    PyObject *found = PyTuple_New(length ? ATTRIBUTES : 0);
    if (found == NULL || !length)
        return found;
    for (int place = 0; place < ATTRIBUTES; place++) {
        int32_t size;
        memcpy(&size, bytes, sizeof size);
        bytes += sizeof size;
        PyObject *value;
        if (size >= 0) {
            value = PyBytes_FromStringAndSize(bytes, size);
            bytes += size;
        } else if (size == NOT_SET) {
            value = Py_None;
            Py_INCREF(value);
        } else {
            value = PyLong_FromLong(NOT_SET - size);
        }
        if (value == NULL) {
            Py_DECREF(found);
            return NULL;
        }
        PyTuple_SetItem(found, place, value);
    }
    return found;
}
