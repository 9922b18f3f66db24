/* Changes objects, each through a handle of its own: looked at first, changed, and read back.
 *
 * The calls are those of fiat.host.live.node, in the same order. What is not exactly as it was expected is left to
 * Python, with the handle that it was opened by: here nothing is decided, and nothing put right.
 */
#include "native.h"

#include <errno.h>
#include <fcntl.h>
#include <pthread.h>
#include <signal.h>
#include <stdatomic.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/syscall.h>
#include <sys/xattr.h>
#include <unistd.h>

#define MOST_LANES 64
#define HELD 24 /* directories that are held open at most, as fiat.core.tree.walk.Handles has it */

/* As fiat.core.change.together.Came has it. */
enum came { NOT_TRIED = -1, AS_PLANNED, NOT_OPENED, OTHERWISE, STEP_FAILED, OTHER_AFTERWARDS };

struct posture { /* as an object is to be found */
    uint16_t mode;
    uint32_t uid, gid;
    uint64_t flags;
    uint32_t length; /* of what its attributes say; 0 where none is set */
    char *said;
};

struct value { /* of an attribute */
    bool set, remove;
    uint32_t length;
    char *bytes;
};

struct change {
    int before, after; /* postures; no change where after is -1 */
    bool owner, mode_too;
    uid_t uid;
    gid_t gid;
    mode_t mode;
    struct value acl, inherited, powers;
};

struct site { /* a place that is known, and the number of its file system */
    struct where where;
    int filesystem;
};

struct object {
    PyObject *bytes; /* that hold the path; NULL where it is not tried */
    const char *path;
    Py_ssize_t length;
    uint64_t inode;
    int64_t birth;
    uint32_t links; /* 0 where that does not count */
    int filesystem, change;
    enum came came;
    int number, fd, site;
};

struct held {
    size_t length; /* of its path, which the last path asked for begins with */
    int fd;
};

/* One of those that change objects at the same time; each has its own way to them. */
struct lane {
    struct changer *changer;
    pthread_t id;
    struct shared *shared;
    struct object *objects;
    Py_ssize_t count, done;
    struct held held[HELD + 1];
    int held_count;
    char *path; /* of the last directory that is held */
    size_t path_room;
    struct said said;
    char scratch[LONGEST_VALUE];
};

struct changer {
    PyObject_HEAD
    int root;
    uint64_t flags_that_count;
    struct posture *postures;
    size_t posture_count, posture_room;
    struct change *changes;
    size_t change_count, change_room;
    struct site *sites;
    size_t site_count, site_room;
    struct numbered known; /* changes by the address of Python's object, and whether they are for a comparison only */
    int *numbers;          /* of these; -1 where it takes what is not done here */
    size_t number_room;
    struct lane *lanes;
    unsigned int lane_count;
};

struct key_of_change {
    uintptr_t address;
    uintptr_t compared_only;
};

/* --- directories on the way --- */

static void let_go_of_last(struct lane *lane)
{
    close(lane->held[--lane->held_count].fd);
}

static void let_go_of_first(struct lane *lane)
{
    close(lane->held[0].fd);
    lane->held_count--;
    memmove(lane->held, lane->held + 1, (size_t)lane->held_count * sizeof *lane->held);
}

static bool is_under(const struct lane *lane, size_t length, const char *path, size_t whole)
{
    if (length > whole || memcmp(lane->path, path, length) != 0)
        return false;
    return length == whole || path[length] == '/';
}

/* A handle on the directory with that path, which is held: each name is opened in the directory before it, and no
 * link is followed. The path begins with a slash, or is empty for the root. -1 with errno. */
static int directory_at(struct lane *lane, const char *path, size_t whole)
{
    while (lane->held_count &&
           !is_under(lane, lane->held[lane->held_count - 1].length, path, whole))
        let_go_of_last(lane);
    if (!grown(&lane->path, &lane->path_room, whole + 1, 1)) {
        errno = ENOMEM;
        return -1;
    }
    memcpy(lane->path, path, whole);
    int here = lane->held_count ? lane->held[lane->held_count - 1].fd : lane->changer->root;
    size_t at = lane->held_count ? lane->held[lane->held_count - 1].length : 0;
    while (at < whole) {
        char name[NAME_MAX + 1];
        const char *begin = path + at + 1;
        const char *slash = memchr(begin, '/', whole - at - 1);
        size_t length = slash ? (size_t)(slash - begin) : whole - at - 1;
        if (length > NAME_MAX) {
            errno = ENAMETOOLONG;
            return -1;
        }
        memcpy(name, begin, length);
        name[length] = 0;
        int below = openat(here, name, O_PATH | O_NOFOLLOW | O_CLOEXEC);
        if (below < 0)
            return -1;
        at += length + 1;
        if (lane->held_count > HELD)
            let_go_of_first(lane);
        lane->held[lane->held_count++] = (struct held){at, below};
        here = below;
    }
    return here;
}

static int open_object(struct lane *lane, const struct object *object)
{
    const char *slash = memrchr(object->path, '/', (size_t)object->length);
    if (slash == NULL || slash[1] == 0) { /* the root directory, or no absolute path */
        errno = EINVAL;
        return -1;
    }
    int directory = directory_at(lane, object->path, (size_t)(slash - object->path));
    if (directory < 0)
        return -1;
    return openat(directory, slash + 1, O_PATH | O_NOFOLLOW | O_CLOEXEC);
}

/* --- one object --- */

/* At which of the known places the object is that has just this posture; -1 where it has not, or that takes more to
 * tell. */
static int found_at(struct lane *lane, int fd, const char *through, const struct posture *posture,
                    const struct object *object)
{
    const struct changer *changer = lane->changer;
    struct statx status;
    if (statx(fd, "", AT_EMPTY_PATH, STATUS_WANTED, &status) != 0 || S_ISLNK(status.stx_mode))
        return -1;
    int site = -1;
    for (size_t one = 0; one < changer->site_count && site < 0; one++)
        if (same_where(where_of(&status), changer->sites[one].where))
            site = (int)one;
    if (site < 0)
        return -1;
    if (object && (changer->sites[site].filesystem != object->filesystem || status.stx_ino != object->inode ||
                   nanoseconds(status.stx_btime) != object->birth))
        return -1;
    if (object && object->links && object->links != status.stx_nlink && !S_ISDIR(status.stx_mode))
        return -1;
    uint64_t flags = status.stx_attributes & status.stx_attributes_mask & changer->flags_that_count;
    if (status.stx_mode != posture->mode || status.stx_uid != posture->uid || status.stx_gid != posture->gid ||
        flags != posture->flags)
        return -1;
    if (!attributes_read(through, ATTRIBUTES_OF_A_POSTURE, false, &lane->said, lane->scratch))
        return -1;
    if (lane->said.length != posture->length || memcmp(lane->said.bytes, posture->said, posture->length) != 0)
        return -1;
    return site;
}

static int set_or_remove(const char *through, const char *name, const struct value *value)
{
    if (value->set)
        return setxattr(through, name, value->bytes, value->length, 0);
    if (value->remove && removexattr(through, name) != 0 && errno != ENODATA)
        return -1;
    return 0;
}

#ifndef SYS_fchmodat2
#define SYS_fchmodat2 452 /* the same on every architecture */
#endif

/* By the handle itself where the kernel can (since Linux 6.6); it saves a walk through /proc. What refuses that call may
 * be a filter that does not know it, so that only chmod(2) says why it is refused. */
static int change_mode(int fd, const char *through, mode_t mode)
{
    static atomic_bool unknown;
    if (!atomic_load(&unknown)) {
        if (syscall(SYS_fchmodat2, fd, "", mode, AT_EMPTY_PATH) == 0)
            return 0;
        if (errno == ENOSYS)
            atomic_store(&unknown, true);
    }
    return chmod(through, mode);
}

/* The owner before the list and the mode, as fiat.core.change.rewriting.take does. */
static int take_steps(int fd, const char *through, const struct change *change)
{
    if (change->owner && fchownat(fd, "", change->uid, change->gid, AT_EMPTY_PATH) != 0)
        return -1;
    if (set_or_remove(through, ATTRIBUTE_NAMES[0], &change->acl) != 0)
        return -1;
    if (change->mode_too && change_mode(fd, through, change->mode) != 0)
        return -1;
    if (set_or_remove(through, ATTRIBUTE_NAMES[1], &change->inherited) != 0)
        return -1;
    return set_or_remove(through, ATTRIBUTE_NAMES[2], &change->powers);
}

static enum came change_object(struct lane *lane, struct object *object)
{
    if (object->bytes == NULL)
        return NOT_TRIED;
    const struct changer *changer = lane->changer;
    const struct change *change = &changer->changes[object->change];
    int fd = open_object(lane, object);
    if (fd < 0) {
        object->number = errno;
        return NOT_OPENED;
    }
    object->fd = fd;
    char through[64];
    snprintf(through, sizeof through, "/proc/self/fd/%d", fd);
    object->site = found_at(lane, fd, through, &changer->postures[change->before], object);
    if (object->site < 0)
        return OTHERWISE;
    if (change->after >= 0) {
        if (take_steps(fd, through, change) != 0) {
            object->number = errno;
            return STEP_FAILED;
        }
        if (found_at(lane, fd, through, &changer->postures[change->after], NULL) < 0)
            return OTHER_AFTERWARDS;
    }
    close(fd);
    object->fd = -1;
    return AS_PLANNED;
}

/* Changes those of a lane, one after the other: all of them, or up to the first that is not as it was expected. */
static void change_in(struct lane *lane, bool all)
{
    for (lane->done = 0; lane->done < lane->count; lane->done++) {
        struct object *object = &lane->objects[lane->done];
        object->came = change_object(lane, object);
        if (object->came != AS_PLANNED && !all)
            return;
    }
}

/* Objects that one lane takes at a time: one whose processor is busy with something else leaves more to the others. */
enum { PIECE = 40 };

/* What lanes share while they change objects at the same time. */
struct shared {
    struct object *objects;
    Py_ssize_t count;
    atomic_size_t taken;
};

static void *beside(void *words)
{
    struct lane *lane = words;
    struct shared *shared = lane->shared;
    size_t begin;
    while ((begin = atomic_fetch_add(&shared->taken, PIECE)) < (size_t)shared->count) {
        lane->objects = shared->objects + begin;
        lane->count = shared->count - (Py_ssize_t)begin < PIECE ? shared->count - (Py_ssize_t)begin : PIECE;
        change_in(lane, true);
    }
    return NULL;
}

/* Has several lanes change the objects, at the same time. */
static void change_beside(struct changer *changer, struct object *objects, Py_ssize_t count)
{
    /* whatever is sent to the process is for the thread that waits */
    sigset_t all, before;
    sigfillset(&all);
    pthread_sigmask(SIG_SETMASK, &all, &before);
    struct shared shared = {objects, count, 0};
    bool started[MOST_LANES] = {false};
    for (unsigned int one = 0; one < changer->lane_count; one++) {
        struct lane *lane = &changer->lanes[one];
        lane->shared = &shared;
        if (one && count > (Py_ssize_t)one * PIECE)
            started[one] = pthread_create(&lane->id, NULL, beside, lane) == 0;
    }
    pthread_sigmask(SIG_SETMASK, &before, NULL);
    beside(&changer->lanes[0]);
    for (unsigned int one = 1; one < changer->lane_count; one++)
        if (started[one])
            pthread_join(changer->lanes[one].id, NULL);
}

/* --- the object that Python holds --- */

static void changer_free(PyObject *self)
{
    struct changer *changer = (struct changer *)self;
    for (unsigned int one = 0; changer->lanes && one < changer->lane_count; one++) {
        while (changer->lanes[one].held_count)
            let_go_of_last(&changer->lanes[one]);
        free(changer->lanes[one].path);
    }
    free(changer->lanes);
    if (changer->root >= 0)
        close(changer->root);
    for (size_t one = 0; one < changer->posture_count; one++)
        free(changer->postures[one].said);
    free(changer->postures);
    for (size_t one = 0; one < changer->change_count; one++) {
        free(changer->changes[one].acl.bytes);
        free(changer->changes[one].inherited.bytes);
        free(changer->changes[one].powers.bytes);
    }
    free(changer->changes);
    free(changer->sites);
    numbered_free(&changer->known);
    free(changer->numbers);
    PyTypeObject *type = Py_TYPE(self);
    freefunc release = (freefunc)PyType_GetSlot(type, Py_tp_free);
    release(self);
    Py_DECREF(type);
}

static PyObject *changer_new(PyTypeObject *type, PyObject *words, PyObject *named)
{
    static char *names[] = {"root", "flags_that_count", "lanes", NULL};
    int root;
    unsigned int lanes;
    unsigned long long flags;
    if (!PyArg_ParseTupleAndKeywords(words, named, "iKI", names, &root, &flags, &lanes))
        return NULL;
    allocfunc allocate = (allocfunc)PyType_GetSlot(type, Py_tp_alloc);
    struct changer *changer = (struct changer *)allocate(type, 0);
    if (changer == NULL)
        return NULL;
    changer->flags_that_count = flags;
    changer->lane_count = lanes < 1 ? 1 : lanes > MOST_LANES ? MOST_LANES : lanes;
    changer->lanes = calloc(changer->lane_count, sizeof *changer->lanes);
    changer->root = fcntl(root, F_DUPFD_CLOEXEC, 0);
    if (changer->root < 0 || changer->lanes == NULL) {
        if (changer->lanes == NULL)
            PyErr_NoMemory();
        else
            PyErr_SetFromErrno(PyExc_OSError);
        Py_DECREF(changer);
        return NULL;
    }
    for (unsigned int one = 0; one < changer->lane_count; one++)
        changer->lanes[one].changer = changer;
    return (PyObject *)changer;
}

static char *copied(const char *bytes, Py_ssize_t length)
{
    char *kept = malloc((size_t)length + 1);
    if (kept == NULL)
        PyErr_NoMemory();
    else if (length)
        memcpy(kept, bytes, (size_t)length);
    return kept;
}

static PyObject *changer_add_posture(PyObject *self, PyObject *words)
{
    struct changer *changer = (struct changer *)self;
    struct posture made = {0};
    unsigned int mode, uid, gid;
    unsigned long long flags;
    PyObject *given;
    char *said;
    Py_ssize_t length;
    if (!PyArg_ParseTuple(words, "IIIKS", &mode, &uid, &gid, &flags, &given) ||
        PyBytes_AsStringAndSize(given, &said, &length) != 0)
        return NULL;
    made = (struct posture){(uint16_t)mode, uid, gid, flags, (uint32_t)length, copied(said, length)};
    if (made.said == NULL)
        return NULL;
    if (!grown(&changer->postures, &changer->posture_room, changer->posture_count, sizeof made)) {
        free(made.said);
        return PyErr_NoMemory();
    }
    changer->postures[changer->posture_count] = made;
    return PyLong_FromSize_t(changer->posture_count++);
}

static PyObject *changer_add_site(PyObject *self, PyObject *words)
{
    struct changer *changer = (struct changer *)self;
    struct site made;
    unsigned long long mount;
    if (!PyArg_ParseTuple(words, "KIIi", &mount, &made.where.major, &made.where.minor, &made.filesystem))
        return NULL;
    made.where.mount = mount;
    if (!grown(&changer->sites, &changer->site_room, changer->site_count, sizeof made))
        return PyErr_NoMemory();
    changer->sites[changer->site_count] = made;
    return PyLong_FromSize_t(changer->site_count++);
}

/* A value that is to be set, True where there is to be none, or None where it stays. */
static bool take_value(PyObject *word, struct value *value)
{
    *value = (struct value){0};
    if (word == Py_None)
        return true;
    if (word == Py_True) {
        value->remove = true;
        return true;
    }
    char *bytes;
    Py_ssize_t length;
    if (PyBytes_AsStringAndSize(word, &bytes, &length) != 0)
        return false;
    value->set = true;
    value->length = (uint32_t)length;
    value->bytes = copied(bytes, length);
    return value->bytes != NULL;
}

static PyObject *changer_add_change(PyObject *self, PyObject *words)
{
    struct changer *changer = (struct changer *)self;
    struct change made = {0};
    long long uid, gid, mode;
    PyObject *acl, *inherited, *powers;
    if (!PyArg_ParseTuple(words, "iiLLLOOO", &made.before, &made.after, &uid, &gid, &mode, &acl, &inherited, &powers))
        return NULL;
    if (made.before < 0 || made.before >= (int)changer->posture_count || made.after >= (int)changer->posture_count) {
        PyErr_SetString(PyExc_ValueError, "there is no such posture");
        return NULL;
    }
    made.owner = uid >= 0 || gid >= 0;
    made.uid = uid < 0 ? (uid_t)-1 : (uid_t)uid;
    made.gid = gid < 0 ? (gid_t)-1 : (gid_t)gid;
    made.mode_too = mode >= 0;
    made.mode = (mode_t)mode;
    bool room = take_value(acl, &made.acl) && take_value(inherited, &made.inherited) && take_value(powers, &made.powers);
    if (room && !grown(&changer->changes, &changer->change_room, changer->change_count, sizeof made)) {
        PyErr_NoMemory();
        room = false;
    }
    if (!room) {
        free(made.acl.bytes);
        free(made.inherited.bytes);
        free(made.powers.bytes);
        return NULL;
    }
    changer->changes[changer->change_count] = made;
    return PyLong_FromSize_t(changer->change_count++);
}

/* Has a change of Python's be known by a number. */
static PyObject *changer_learn(PyObject *self, PyObject *words)
{
    struct changer *changer = (struct changer *)self;
    PyObject *change;
    int compared_only, number;
    if (!PyArg_ParseTuple(words, "Opi", &change, &compared_only, &number))
        return NULL;
    if (number >= (int)changer->change_count) {
        PyErr_SetString(PyExc_ValueError, "there is no such change");
        return NULL;
    }
    struct key_of_change key = {(uintptr_t)change, (uintptr_t)compared_only};
    int64_t place = numbered_number(&changer->known, &key, sizeof key);
    if (place < 0 || !grown(&changer->numbers, &changer->number_room, (size_t)place, sizeof number))
        return PyErr_NoMemory();
    changer->numbers[place] = number;
    Py_RETURN_NONE;
}

/* The parts of an attempt: path, identity, change, how many names it has, whether it is compared only. Borrowed. */
struct attempt {
    PyObject *path, *identity, *change;
    struct key_of_change key;
    unsigned long links;
};

static bool take_attempt(PyObject *words, struct attempt *attempt)
{
    if (PyTuple_Size(words) != 5) {
        if (!PyErr_Occurred())
            PyErr_SetString(PyExc_ValueError, "an attempt has five parts");
        return false;
    }
    attempt->path = PyTuple_GetItem(words, 0);
    attempt->identity = PyTuple_GetItem(words, 1);
    attempt->change = PyTuple_GetItem(words, 2);
    attempt->links = PyLong_AsUnsignedLong(PyTuple_GetItem(words, 3));
    int compared_only = PyObject_IsTrue(PyTuple_GetItem(words, 4));
    if (compared_only < 0 || PyErr_Occurred())
        return false;
    attempt->key = (struct key_of_change){(uintptr_t)attempt->change, (uintptr_t)compared_only};
    return true;
}

/* Of a list of attempts, those whose changes are not known. */
static PyObject *changer_unknown(PyObject *self, PyObject *list)
{
    struct changer *changer = (struct changer *)self;
    Py_ssize_t count = PyList_Size(list);
    PyObject *found = count < 0 ? NULL : PyList_New(0);
    for (Py_ssize_t one = 0; found && one < count; one++) {
        PyObject *words = PyList_GetItem(list, one);
        struct attempt attempt;
        if (words == Py_None)
            continue;
        if (!take_attempt(words, &attempt))
            Py_CLEAR(found);
        else if (numbered_find(&changer->known, &attempt.key, sizeof attempt.key) < 0 && PyList_Append(found, words) != 0)
            Py_CLEAR(found);
    }
    return found;
}

/* What an attempt is about, with the numbers of file systems by their names. */
static bool take_object(const struct changer *changer, PyObject *words, PyObject *filesystems, struct object *object)
{
    *object = (struct object){.fd = -1, .site = -1, .came = NOT_TRIED};
    struct attempt attempt;
    if (words == Py_None)
        return true;
    if (!take_attempt(words, &attempt))
        return false;
    int64_t place = numbered_find(&changer->known, &attempt.key, sizeof attempt.key);
    object->change = place < 0 ? -1 : changer->numbers[place];
    if (object->change < 0)
        return true;
    if (PyTuple_Size(attempt.identity) != 3) {
        if (!PyErr_Occurred())
            PyErr_SetString(PyExc_ValueError, "an identity has three parts");
        return false;
    }
    PyObject *number = PyDict_GetItemWithError(filesystems, PyTuple_GetItem(attempt.identity, 0));
    object->filesystem = number ? (int)PyLong_AsLong(number) : -1;
    object->inode = PyLong_AsUnsignedLongLong(PyTuple_GetItem(attempt.identity, 1));
    object->birth = PyLong_AsLongLong(PyTuple_GetItem(attempt.identity, 2));
    object->links = (uint32_t)attempt.links;
    if (PyErr_Occurred())
        return false;
    PyObject *bytes = PyUnicode_EncodeFSDefault(attempt.path);
    char *path;
    Py_ssize_t length;
    if (bytes == NULL || PyBytes_AsStringAndSize(bytes, &path, &length) != 0) {
        Py_XDECREF(bytes);
        return false;
    }
    if (length < 2) { /* the root directory has no name to be opened by */
        Py_DECREF(bytes);
        return true;
    }
    object->bytes = bytes;
    object->path = path;
    object->length = length;
    return true;
}

static void free_objects(struct object *objects, Py_ssize_t count)
{
    for (Py_ssize_t one = 0; one < count; one++)
        Py_XDECREF(objects[one].bytes);
    free(objects);
}

static struct object *take_objects(const struct changer *changer, PyObject *list, PyObject *filesystems)
{
    Py_ssize_t count = PyList_Size(list);
    if (count < 0)
        return NULL;
    struct object *objects = calloc((size_t)count + 1, sizeof *objects);
    if (objects == NULL)
        PyErr_NoMemory();
    for (Py_ssize_t one = 0; objects && one < count; one++)
        if (!take_object(changer, PyList_GetItem(list, one), filesystems, &objects[one])) {
            free_objects(objects, one);
            objects = NULL;
        }
    return objects;
}

/* Of the first objects: where each was found, or None; and those that did not come to their end, by their places: how
 * far they came, the errno, and the handle by which it is held now, -1 where it is not. */
static PyObject *told(const struct object *objects, Py_ssize_t count, PyObject *places)
{
    PyObject *found = PyList_New(count), *ended = PyList_New(0);
    for (Py_ssize_t one = 0; one < count; one++) {
        const struct object *object = &objects[one];
        if (found && ended && object->came == AS_PLANNED) {
            PyObject *place = PyList_GetItem(places, object->site);
            if (place == NULL) {
                Py_CLEAR(found);
                continue;
            }
            Py_INCREF(place);
            PyList_SetItem(found, one, place);
        } else if (object->came != AS_PLANNED) {
            PyObject *end = !found || !ended ? NULL
                                             : Py_BuildValue("(niii)", one, (int)object->came, object->number, object->fd);
            if (end == NULL || PyList_Append(ended, end) != 0) { /* without memory nobody is told of what is held */
                Py_CLEAR(ended);
                if (object->fd >= 0)
                    close(object->fd);
            } else {
                Py_INCREF(Py_None);
                PyList_SetItem(found, one, Py_None);
            }
            Py_XDECREF(end);
        }
    }
    PyObject *both = found && ended ? PyTuple_Pack(2, found, ended) : NULL;
    Py_XDECREF(found);
    Py_XDECREF(ended);
    return both;
}

static PyObject *changed(struct changer *changer, PyObject *words, bool at_once)
{
    PyObject *list, *filesystems, *places;
    if (!PyArg_ParseTuple(words, "OOO", &list, &filesystems, &places))
        return NULL;
    struct object *objects = take_objects(changer, list, filesystems);
    if (objects == NULL)
        return NULL;
    Py_ssize_t count = PyList_Size(list), done = count;
    struct lane *lane = &changer->lanes[0];
    Py_BEGIN_ALLOW_THREADS
    if (at_once) {
        change_beside(changer, objects, count);
    } else {
        lane->objects = objects;
        lane->count = count;
        change_in(lane, false);
        done = lane->done < count ? lane->done + 1 : count;
    }
    Py_END_ALLOW_THREADS
    PyObject *found = told(objects, done, places);
    free_objects(objects, count);
    return found;
}

static PyObject *changer_in_turn(PyObject *self, PyObject *words)
{
    return changed((struct changer *)self, words, false);
}

static PyObject *changer_at_once(PyObject *self, PyObject *words)
{
    return changed((struct changer *)self, words, true);
}

static PyMethodDef methods[] = {
    {"add_posture", changer_add_posture, METH_VARARGS, "Take a posture that objects are expected to have; its number."},
    {"add_site", changer_add_site, METH_VARARGS, "Take a place where objects may be; its number."},
    {"add_change", changer_add_change, METH_VARARGS, "Take the steps from one posture to another; their number."},
    {"learn", changer_learn, METH_VARARGS, "Have a change be known by its number, or as one that is not done here."},
    {"unknown", changer_unknown, METH_O, "The attempts whose changes are not known yet."},
    {"in_turn", changer_in_turn, METH_VARARGS, "Change objects, up to the first that is not as it was expected."},
    {"at_once", changer_at_once, METH_VARARGS, "Change objects, several at a time, whatever comes of each."},
    {NULL, NULL, 0, NULL},
};

static PyType_Slot slots[] = {
    {Py_tp_new, changer_new},
    {Py_tp_dealloc, changer_free},
    {Py_tp_methods, methods},
    {Py_tp_doc, "Changes objects, each through a handle of its own."},
    {0, NULL},
};

static PyType_Spec spec = {"fiat._native.Changer", sizeof(struct changer), 0, Py_TPFLAGS_DEFAULT, slots};

PyObject *changer_type(PyObject *module)
{
    return PyType_FromModuleAndSpec(module, &spec, NULL);
}
