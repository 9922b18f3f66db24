/* Reads a tree below a handle with several threads that share the work.
 *
 * Each thread takes a directory that waits, reads its names, and of each entry the status and the attributes; what it
 * finds goes into columns of its own. When all have ended, the columns become those of one batch (fiat.core.tree
 * .assembly.Batch), its entries as directories have them. What is not alike everywhere, such as a directory that
 * something is mounted in, is not read here: it is handed back, for Python to look at it thoroughly.
 */
#include "native.h"

#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <pthread.h>
#include <sched.h>
#include <signal.h>
#include <stdatomic.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/syscall.h>
#include <time.h>
#include <unistd.h>

#define OPEN_DIRECTORY (O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC)
#define FIRST_BYTES 1024  /* of executable files, as fiat.core.rules.programs has it */
#define STARTS 2000       /* short programs, and scripts, whose bytes are remembered */
#define MOST_THREADS 64

/* --- what is read --- */

struct row { /* as fiat.host.live.rows.Rows says */
    uint64_t what, owners, device, where;
};

/* Some entries of a directory, which stand together in the columns of a thread. */
struct segment {
    uint32_t thread;
    uint32_t count;
    size_t first, names;
    size_t bytes;  /* of the names */
    size_t before; /* how many entries of the directory stand before it, in the end */
};

enum outcome { ALIKE, ELSEWHERE, STOPPED };

enum state { WAITING, READ, FAILED, HANDED_BACK };

struct directory {
    struct directory *above; /* NULL of a root */
    struct directory *next;  /* in the list of all */
    struct where where;
    int fd;                /* held open while what is in it waits to be opened; -1 otherwise */
    atomic_int waiting;    /* directories in it that are still to be opened */
    atomic_int pieces;     /* that are still to be read, of a large one */
    atomic_bool elsewhere; /* something in it is not what is read here */
    bool any_where;        /* of a root: its place is found out when it is opened */
    enum state state;
    uint32_t piece, place; /* in which piece of the one above its entry is, and at which place there */
    uint32_t root;         /* of a root, its number */
    size_t first;          /* the number of its first entry, in the end */
    uint32_t segments;
    struct segment *more, one; /* of a large one more than one */
    struct sliced *sliced;
    uint16_t length;
    char name[];
};

/* The names of a large directory, in pieces. */
struct sliced {
    char *bytes, **names;
    size_t count;
    struct directory ***inside; /* for each piece, the directories found in it */
    size_t *found;
};

struct work {
    struct directory *directory;
    uint32_t piece; /* of a large directory; all of it where that is ALL */
};
#define ALL UINT32_MAX

struct trouble {
    struct directory *directory; /* NULL where it is none that was read */
    char *path;                  /* relative to the top */
    int number;
};

struct sort_key {
    uint64_t start; /* the first eight bytes, so that they compare as the whole does */
    char *name;
};

struct thread {
    struct reading *reading;
    pthread_t id;
    uint32_t number;
    bool own_directory; /* it has a current directory of its own */
    bool started;
    /* columns */
    size_t count, profile_room, inode_room, links_room, birth_room, length_room, size_room, changed_room, modified_room;
    uint32_t *profile;
    uint64_t *inode;
    uint32_t *links;
    int64_t *birth;
    uint16_t *length;
    int64_t *size, *changed, *modified;
    char *names;
    size_t used, names_room;
    struct numbered rows, attributes, starts;
    uint64_t *start_numbers;
    size_t start_room;
    struct target {
        size_t entry;
        char *to;
        uint32_t length;
    } *targets;
    size_t target_count, target_room;
    struct trouble *troubles;
    size_t trouble_count, trouble_room;
    /* what is read at the moment */
    char *listing;
    size_t listed, listing_room;
    struct sort_key *keys;
    size_t key_room;
    struct directory **inside;
    size_t inside_count, inside_room;
    struct said said;
    char scratch[LONGEST_VALUE];
    char entries[65536];
    char through[64 + NAME_MAX + 1];
};

struct reading {
    PyObject_HEAD
    pid_t process;
    int top;
    bool descends, details;
    uint64_t entry_limit;
    uint64_t told_flags;
    bool by_name; /* whether what a program is hangs on more than its bytes */
    PyObject *program;
    struct where *wheres; /* where everything is alike */
    size_t where_count;
    char **busy; /* directories in which something is mounted by another path */
    size_t busy_count;
    int most_open;
    uint32_t piece, shared; /* with so many names a directory is read in pieces of so many */
    atomic_int open;
    pthread_mutex_t lock;
    pthread_cond_t more, ended;
    struct work *stack;
    size_t waiting, stack_room;
    int active, running;
    struct directory *all, **last;
    struct directory *latest;
    atomic_ullong total;
    atomic_bool stopping;
    atomic_bool no_memory;
    PyObject *failure; /* what the callback raised */
    atomic_ullong empty, too_short, errnos[256]; /* the numbers of programs that are none; 0 as long as not asked for */
    struct thread *threads;
    uint32_t thread_count;
    bool joined, taken;
};

static void fail_for_memory(struct reading *reading)
{
    atomic_store(&reading->no_memory, true);
    atomic_store(&reading->stopping, true);
}

/* --- paths --- */

/* The path of a directory from the top, and of a name in it where one is given; NULL where there is no memory. */
static char *path_of(const struct directory *directory, const char *name)
{
    size_t length = name ? strlen(name) + 1 : 0;
    for (const struct directory *one = directory; one; one = one->above)
        length += one->length + 1u;
    char *path = malloc(length + 1);
    if (path == NULL)
        return NULL;
    char *end = path + length;
    *end = 0;
    if (name) {
        size_t size = strlen(name);
        end -= size;
        memcpy(end, name, size);
        *--end = '/';
    }
    for (const struct directory *one = directory; one; one = one->above) {
        if (!one->length)
            continue; /* the top itself */
        end -= one->length;
        memcpy(end, one->name, one->length);
        *--end = '/';
    }
    if (*end == '/')
        end++;
    memmove(path, end, strlen(end) + 1);
    return path;
}

static void add_trouble(struct thread *thread, struct directory *directory, const char *name, int number)
{
    char *path = path_of(directory, name);
    if (path == NULL || !grown(&thread->troubles, &thread->trouble_room, thread->trouble_count, sizeof(struct trouble))) {
        free(path);
        fail_for_memory(thread->reading);
        return;
    }
    thread->troubles[thread->trouble_count++] = (struct trouble){directory, path, number};
}

/* --- directories --- */

static struct directory *new_directory(struct directory *above, const char *name, size_t length)
{
    struct directory *made = calloc(1, sizeof *made + length + 1);
    if (made == NULL)
        return NULL;
    made->above = above;
    made->fd = -1;
    made->length = (uint16_t)length;
    memcpy(made->name, name, length);
    return made;
}

static void close_held(struct reading *reading, struct directory *directory)
{
    if (directory->fd >= 0) {
        close(directory->fd);
        directory->fd = -1;
        atomic_fetch_sub(&reading->open, 1);
    }
}

/* One that was in it has been opened, or never will be. */
static void let_go(struct reading *reading, struct directory *directory)
{
    if (directory && atomic_fetch_sub(&directory->waiting, 1) == 1)
        close_held(reading, directory);
}

/* Opens what is at a path of names below a handle, one name after the other, no link followed. */
static int open_below(int top, const char *path)
{
    if (!*path)
        return openat(top, ".", OPEN_DIRECTORY);
    int here = top;
    char name[NAME_MAX + 1];
    while (*path) {
        size_t length = strcspn(path, "/");
        if (length > NAME_MAX) {
            if (here != top)
                close(here);
            errno = ENAMETOOLONG;
            return -1;
        }
        memcpy(name, path, length);
        name[length] = 0;
        path += length;
        if (*path)
            path++;
        int below = openat(here, name, *path ? OPEN_DIRECTORY | O_PATH : OPEN_DIRECTORY);
        if (here != top) {
            int number = errno;
            close(here);
            errno = number;
        }
        if (below < 0)
            return -1;
        here = below;
    }
    return here;
}

static int open_directory(struct reading *reading, struct directory *directory)
{
    if (directory->above && directory->above->fd >= 0)
        return openat(directory->above->fd, directory->name, OPEN_DIRECTORY);
    char *path = path_of(directory, NULL);
    if (path == NULL) {
        fail_for_memory(reading);
        errno = ENOMEM;
        return -1;
    }
    int fd = open_below(reading->top, path);
    int number = errno;
    free(path);
    errno = number;
    return fd;
}

static bool is_busy(struct reading *reading, struct directory *directory)
{
    if (!reading->busy_count)
        return false;
    char *path = path_of(directory, NULL);
    bool found = false;
    for (size_t one = 0; path && !found && one < reading->busy_count; one++)
        found = strcmp(path, reading->busy[one]) == 0;
    if (path == NULL)
        fail_for_memory(reading);
    free(path);
    return found;
}

/* Whether a directory that was opened is where everything is alike, and where it was found to be. */
static bool is_alike(struct reading *reading, struct directory *directory, int fd)
{
    if (is_busy(reading, directory))
        return false;
    if (directory->above)
        return true; /* it was when it was found; should anything be mounted there since, what is in it tells */
    struct statx status;
    if (statx(fd, "", AT_EMPTY_PATH, STATUS_WANTED, &status) != 0)
        return false;
    struct where here = where_of(&status);
    if (directory->any_where)
        directory->where = here;
    else if (!same_where(here, directory->where))
        return false;
    for (size_t one = 0; one < reading->where_count; one++)
        if (same_where(here, reading->wheres[one]))
            return true;
    return false;
}

/* --- programs --- */

/* The number that Python has for a program: of these first bytes, of which fd holds more, or an errno in their place. */
static uint64_t ask_program(struct thread *thread, int fd, int number, const char *start, ssize_t length, const char *name)
{
    struct reading *reading = thread->reading;
    uint64_t found = 0;
    PyGILState_STATE held = PyGILState_Ensure();
    PyObject *answer = reading->failure ? NULL
                       : start ? PyObject_CallFunction(reading->program, "iNy", fd, bytes_of(start, length), name)
                               : PyObject_CallFunction(reading->program, "iiy", fd, number, name);
    if (answer != NULL) {
        found = PyLong_AsUnsignedLongLong(answer);
        Py_DECREF(answer);
    }
    if (PyErr_Occurred()) {
        PyObject *kind, *value, *trace;
        PyErr_Fetch(&kind, &value, &trace);
        PyErr_NormalizeException(&kind, &value, &trace);
        if (reading->failure == NULL && value != NULL) {
            reading->failure = value;
            value = NULL;
        }
        Py_XDECREF(kind);
        Py_XDECREF(value);
        Py_XDECREF(trace);
        atomic_store(&reading->stopping, true);
    }
    PyGILState_Release(held);
    return found;
}

static uint64_t program_that_failed(struct thread *thread, int number, const char *name)
{
    if (number <= 0 || number >= 256)
        return ask_program(thread, -1, number, NULL, 0, name);
    uint64_t known = atomic_load(&thread->reading->errnos[number]);
    if (!known) {
        known = ask_program(thread, -1, number, NULL, 0, name);
        atomic_store(&thread->reading->errnos[number], known); /* another thread would write the same */
    }
    return known;
}

/* The number of the program that begins with those bytes, and of which fd holds more. */
static uint64_t program_beginning(struct thread *thread, int fd, const char *start, ssize_t length, const char *name)
{
    if (length == FIRST_BYTES || thread->reading->by_name || thread->starts.count >= STARTS)
        return ask_program(thread, fd, 0, start, length, name);
    /* what has the same bytes, and no more of them, is the same */
    size_t before = thread->starts.count;
    int64_t number = numbered_number(&thread->starts, start, (uint32_t)length);
    if (number < 0 || !grown(&thread->start_numbers, &thread->start_room, thread->starts.count, sizeof(uint64_t))) {
        fail_for_memory(thread->reading);
        return 0;
    }
    if (thread->starts.count > before)
        thread->start_numbers[number] = ask_program(thread, fd, 0, start, length, name);
    return thread->start_numbers[number];
}

static uint64_t program_of(struct thread *thread, const char *name, const char *path, uint64_t size)
{
    struct reading *reading = thread->reading;
    if (size < 2 && !reading->by_name) {
        atomic_ullong *kept = size ? &reading->too_short : &reading->empty;
        uint64_t known = atomic_load(kept);
        if (!known) {
            known = ask_program(thread, -1, 0, "x", (ssize_t)size, name);
            atomic_store(kept, known);
        }
        return known;
    }
    int fd = open(path, O_RDONLY | O_NONBLOCK | O_NOFOLLOW | O_CLOEXEC);
    if (fd < 0)
        return program_that_failed(thread, errno, name);
    char start[FIRST_BYTES];
    ssize_t length = read(fd, start, sizeof start);
    uint64_t found = length < 0 ? program_that_failed(thread, errno, name)
                                : program_beginning(thread, fd, start, length, name);
    close(fd);
    return found;
}

/* --- entries --- */

static bool room_for_one(struct thread *t, size_t name)
{
    bool room = grown(&t->profile, &t->profile_room, t->count, sizeof *t->profile) &&
                grown(&t->inode, &t->inode_room, t->count, sizeof *t->inode) &&
                grown(&t->links, &t->links_room, t->count, sizeof *t->links) &&
                grown(&t->birth, &t->birth_room, t->count, sizeof *t->birth) &&
                grown(&t->length, &t->length_room, t->count, sizeof *t->length) &&
                grown(&t->names, &t->names_room, t->used + name, 1);
    if (room && t->reading->details)
        room = grown(&t->size, &t->size_room, t->count, sizeof *t->size) &&
               grown(&t->changed, &t->changed_room, t->count, sizeof *t->changed) &&
               grown(&t->modified, &t->modified_room, t->count, sizeof *t->modified);
    return room;
}

static void add_target(struct thread *thread, const char *name)
{
    char to[4097];
    ssize_t length = readlink(name, to, sizeof to - 1);
    length = length < 0 ? 0 : length; /* it has gone meanwhile */
    char *kept = malloc((size_t)length + 1);
    if (kept == NULL ||
        !grown(&thread->targets, &thread->target_room, thread->target_count, sizeof *thread->targets)) {
        free(kept);
        fail_for_memory(thread->reading);
        return;
    }
    memcpy(kept, to, (size_t)length);
    thread->targets[thread->target_count++] = (struct target){thread->count, kept, (uint32_t)length};
}

/* Reads one entry; false where it is not alike what is around it. `path` leads to it from the current directory. */
static bool read_entry(struct thread *thread, struct directory *directory, const char *name, const char *path,
                       uint32_t piece, uint32_t *place)
{
    struct reading *reading = thread->reading;
    struct statx status;
    if (statx(AT_FDCWD, path, STATUS_BY_NAME, STATUS_WANTED, &status) != 0) {
        add_trouble(thread, directory, name, errno);
        return true;
    }
    if (!same_where(where_of(&status), directory->where))
        return false;
    size_t length = strlen(name);
    if (!room_for_one(thread, length)) {
        fail_for_memory(reading);
        return true;
    }
    uint64_t said = 0, program = 0;
    bool is_file = S_ISREG(status.stx_mode), is_directory = S_ISDIR(status.stx_mode);
    if (!S_ISLNK(status.stx_mode)) {
        /* where it is not told which there are, none are kept, as on a file system without any */
        if (attributes_read(path, ATTRIBUTES, true, &thread->said, thread->scratch) && thread->said.length) {
            int64_t number = numbered_number(&thread->attributes, thread->said.bytes, thread->said.length);
            if (number < 0)
                fail_for_memory(reading);
            said = (uint64_t)number + 1;
        }
        if (is_file && status.stx_mode & 0111)
            program = program_of(thread, name, path, status.stx_size);
    } else if (reading->details) {
        add_target(thread, path);
    }
    uint64_t flags = status.stx_attributes & status.stx_attributes_mask & reading->told_flags;
    struct row row = {
        program << 32 | flags << 16 | status.stx_mode,
        (uint64_t)status.stx_gid << 32 | status.stx_uid,
        (uint64_t)status.stx_dev_minor << 32 | status.stx_dev_major,
        status.stx_mnt_id << 32 | said,
    };
    int64_t number = numbered_number(&thread->rows, &row, sizeof row);
    if (number < 0) {
        fail_for_memory(reading);
        return true;
    }
    thread->profile[thread->count] = (uint32_t)number;
    thread->inode[thread->count] = status.stx_ino;
    thread->links[thread->count] = status.stx_nlink;
    thread->birth[thread->count] = nanoseconds(status.stx_btime);
    thread->length[thread->count] = (uint16_t)length;
    if (reading->details) {
        thread->size[thread->count] = (int64_t)status.stx_size;
        thread->changed[thread->count] = nanoseconds(status.stx_ctime);
        thread->modified[thread->count] = nanoseconds(status.stx_mtime);
    }
    memcpy(thread->names + thread->used, name, length);
    if (is_directory && reading->descends) {
        struct directory *inside = new_directory(directory, name, length);
        if (inside == NULL ||
            !grown(&thread->inside, &thread->inside_room, thread->inside_count, sizeof *thread->inside)) {
            free(inside);
            fail_for_memory(reading);
            return true;
        }
        inside->where = directory->where;
        inside->piece = piece;
        inside->place = *place;
        thread->inside[thread->inside_count++] = inside;
    }
    thread->used += length;
    thread->count++;
    ++*place;
    return true;
}

/* As if what was read since then had not been looked at. */
static void take_back(struct thread *thread, const struct segment *begun, size_t troubles, size_t targets)
{
    thread->count = begun->first;
    thread->used = begun->names;
    while (thread->trouble_count > troubles)
        free(thread->troubles[--thread->trouble_count].path);
    while (thread->target_count > targets)
        free(thread->targets[--thread->target_count].to);
    while (thread->inside_count)
        free(thread->inside[--thread->inside_count]);
}

/* Reads those names of a directory; nothing of them is kept where something in it is not alike, or it was stopped. */
static enum outcome read_names(struct thread *thread, struct directory *directory, int fd, char **names, size_t count,
                               uint32_t piece, struct segment *segment)
{
    struct reading *reading = thread->reading;
    struct segment begun = {thread->number, 0, thread->count, thread->used, 0, 0};
    size_t troubles = thread->trouble_count, targets = thread->target_count, before = 0;
    uint32_t place = 0;
    *segment = begun;
    if (!thread->own_directory) {
        before = (size_t)snprintf(thread->through, sizeof thread->through, "/proc/self/fd/%d/", fd);
    } else if (fchdir(fd) != 0) {
        add_trouble(thread, directory, NULL, errno);
        return ALIKE;
    }
    for (size_t one = 0; one < count; one++) {
        const char *path = names[one];
        if (before) { /* there is room for every name */
            memcpy(thread->through + before, path, strlen(path) + 1);
            path = thread->through;
        }
        bool alike = read_entry(thread, directory, names[one], path, piece, &place);
        if (!alike || (one % 256 == 255 && (atomic_load(&reading->stopping) || atomic_load(&directory->elsewhere)))) {
            take_back(thread, &begun, troubles, targets);
            return alike ? STOPPED : ELSEWHERE;
        }
    }
    segment->count = place;
    segment->bytes = thread->used - begun.names;
    atomic_fetch_add(&reading->total, place);
    return ALIKE;
}

/* --- the names in a directory --- */

static uint64_t first_eight(const char *name)
{
    uint64_t start = 0;
    for (int place = 0; place < 8; place++) {
        start = start << 8 | (unsigned char)*name;
        if (*name)
            name++;
    }
    return start;
}

/* With how many bytes all names begin alike: mostly it is those after them that tell names apart. */
static size_t common_beginning(const struct sort_key *keys, size_t count)
{
    size_t common = count ? strlen(keys[0].name) : 0;
    for (size_t one = 1; one < count && common; one++) {
        size_t same = 0;
        while (same < common && keys[one].name[same] == keys[0].name[same])
            same++;
        common = same;
    }
    return common;
}

static int by_name(const void *one, const void *other)
{
    const struct sort_key *a = one, *b = other;
    if (a->start != b->start)
        return a->start < b->start ? -1 : 1;
    return strcmp(a->name, b->name);
}

/* Lists the names in a directory into the thread's keys, sorted by their bytes; how many, or -1 with errno. */
static ssize_t list_names(struct thread *thread, int fd)
{
    thread->listed = 0;
    size_t count = 0;
    for (;;) {
        long got = syscall(SYS_getdents64, fd, thread->entries, sizeof thread->entries);
        if (got < 0)
            return -1;
        if (got == 0)
            break;
        for (long at = 0; at < got;) {
            struct dirent64 *entry = (struct dirent64 *)(thread->entries + at);
            at += entry->d_reclen;
            const char *name = entry->d_name;
            if (name[0] == '.' && (!name[1] || (name[1] == '.' && !name[2])))
                continue;
            size_t length = strlen(name) + 1;
            if (length > NAME_MAX + 1)
                continue; /* no name is longer, and none could be asked for */
            if (!grown(&thread->listing, &thread->listing_room, thread->listed + length, 1) ||
                !grown(&thread->keys, &thread->key_room, count, sizeof *thread->keys)) {
                errno = ENOMEM;
                fail_for_memory(thread->reading);
                return -1;
            }
            memcpy(thread->listing + thread->listed, name, length);
            thread->keys[count++].name = (char *)thread->listed; /* a place as yet: the listing may move */
            thread->listed += length;
        }
        if (atomic_load(&thread->reading->stopping))
            break;
    }
    for (size_t one = 0; one < count; one++)
        thread->keys[one].name = thread->listing + (size_t)thread->keys[one].name;
    size_t common = common_beginning(thread->keys, count);
    for (size_t one = 0; one < count; one++)
        thread->keys[one].start = first_eight(thread->keys[one].name + common);
    if (count)
        qsort(thread->keys, count, sizeof *thread->keys, by_name);
    return (ssize_t)count;
}

/* --- the work that waits --- */

static void push(struct reading *reading, struct work *some, size_t count)
{
    pthread_mutex_lock(&reading->lock);
    while (reading->waiting + count > reading->stack_room)
        if (!grown(&reading->stack, &reading->stack_room, reading->waiting + count, sizeof *reading->stack)) {
            fail_for_memory(reading);
            pthread_mutex_unlock(&reading->lock);
            return;
        }
    memcpy(reading->stack + reading->waiting, some, count * sizeof *some);
    reading->waiting += count;
    pthread_cond_broadcast(&reading->more);
    pthread_mutex_unlock(&reading->lock);
}

static void add_to_all(struct reading *reading, struct directory **some, size_t count)
{
    for (size_t one = 0; one < count; one++) {
        *reading->last = some[one];
        reading->last = &some[one]->next;
    }
}

/* Has what was found in a directory wait to be read; the last found is on top of the others. */
static void push_inside(struct reading *reading, struct directory *directory, struct directory **inside, size_t count)
{
    if (!count)
        return;
    atomic_fetch_add(&directory->waiting, (int)count);
    pthread_mutex_lock(&reading->lock);
    add_to_all(reading, inside, count);
    pthread_mutex_unlock(&reading->lock);
    struct work few[64];
    for (size_t end = count; end;) {
        size_t some = 0;
        while (end && some < 64)
            few[some++] = (struct work){inside[--end], ALL};
        push(reading, few, some);
    }
}

/* A directory has been read, and is open as fd, which is held while others in it are to be opened. */
static void hold_or_close(struct reading *reading, struct directory *directory, int fd, size_t inside)
{
    if (!inside || atomic_load(&reading->open) >= reading->most_open) {
        close(fd);
        return;
    }
    directory->fd = fd;
    atomic_fetch_add(&reading->open, 1);
}

static void free_sliced(struct directory *directory)
{
    struct sliced *sliced = directory->sliced;
    if (sliced == NULL)
        return;
    for (uint32_t piece = 0; piece < directory->segments; piece++)
        free(sliced->inside ? sliced->inside[piece] : NULL);
    free(sliced->inside);
    free(sliced->found);
    free(sliced->names);
    free(sliced->bytes);
    free(sliced);
    directory->sliced = NULL;
}

static void end_pieces(struct reading *reading, struct directory *directory)
{
    struct sliced *sliced = directory->sliced;
    int fd = directory->fd;
    directory->fd = -1;
    atomic_fetch_sub(&reading->open, 1);
    size_t inside = 0;
    bool handed_back = atomic_load(&directory->elsewhere);
    for (uint32_t piece = 0; piece < directory->segments; piece++)
        inside += sliced->found[piece];
    if (handed_back) {
        for (uint32_t piece = 0; piece < directory->segments; piece++)
            for (size_t one = 0; one < sliced->found[piece]; one++)
                free(sliced->inside[piece][one]);
        close(fd);
        directory->state = HANDED_BACK;
    } else {
        directory->state = READ;
        hold_or_close(reading, directory, fd, inside);
        atomic_fetch_add(&directory->waiting, 1); /* it is not let go while they are added */
        for (uint32_t piece = directory->segments; piece--;)
            push_inside(reading, directory, sliced->inside[piece], sliced->found[piece]);
        let_go(reading, directory);
    }
    free_sliced(directory);
}

static void read_piece(struct thread *thread, struct directory *directory, uint32_t piece)
{
    struct sliced *sliced = directory->sliced;
    size_t most = thread->reading->piece, begin = (size_t)piece * most;
    size_t count = sliced->count - begin < most ? sliced->count - begin : most;
    thread->inside_count = 0;
    if (!atomic_load(&directory->elsewhere) && !atomic_load(&thread->reading->stopping)) {
        if (read_names(thread, directory, directory->fd, sliced->names + begin, count, piece,
                       &directory->more[piece]) == ELSEWHERE)
            atomic_store(&directory->elsewhere, true);
        if (thread->inside_count) {
            size_t size = thread->inside_count * sizeof *thread->inside;
            sliced->inside[piece] = malloc(size);
            if (sliced->inside[piece] == NULL) {
                while (thread->inside_count)
                    free(thread->inside[--thread->inside_count]);
                fail_for_memory(thread->reading);
            } else {
                memcpy(sliced->inside[piece], thread->inside, size);
                sliced->found[piece] = thread->inside_count;
            }
        }
    }
    if (atomic_fetch_sub(&directory->pieces, 1) == 1)
        end_pieces(thread->reading, directory);
}

/* Has a large directory read in pieces, by whoever has time. */
static void slice(struct thread *thread, struct directory *directory, int fd, size_t count)
{
    struct reading *reading = thread->reading;
    uint32_t pieces = (uint32_t)((count + reading->piece - 1) / reading->piece);
    struct sliced *sliced = calloc(1, sizeof *sliced);
    struct work *work = calloc(pieces, sizeof *work);
    directory->more = calloc(pieces, sizeof *directory->more);
    directory->sliced = sliced;
    if (sliced) {
        sliced->names = malloc(count * sizeof *sliced->names);
        sliced->inside = calloc(pieces, sizeof *sliced->inside);
        sliced->found = calloc(pieces, sizeof *sliced->found);
    }
    if (!sliced || !work || !directory->more || !sliced->names || !sliced->inside || !sliced->found) {
        free(work);
        free_sliced(directory);
        close(fd);
        directory->state = FAILED;
        fail_for_memory(reading);
        return;
    }
    for (size_t one = 0; one < count; one++)
        sliced->names[one] = thread->keys[one].name;
    sliced->count = count;
    sliced->bytes = thread->listing; /* its names stay where they are */
    thread->listing = NULL;
    thread->listing_room = 0;
    directory->segments = pieces;
    directory->fd = fd;
    atomic_fetch_add(&reading->open, 1);
    atomic_store(&directory->pieces, (int)pieces);
    for (uint32_t piece = 0; piece < pieces; piece++)
        work[piece] = (struct work){directory, pieces - 1 - piece};
    push(reading, work, pieces);
    free(work);
}

static void read_directory(struct thread *thread, struct directory *directory)
{
    struct reading *reading = thread->reading;
    int fd = open_directory(reading, directory);
    int number = errno;
    let_go(reading, directory->above);
    if (fd < 0) {
        add_trouble(thread, directory, NULL, number);
        directory->state = FAILED;
        return;
    }
    if (!is_alike(reading, directory, fd)) {
        close(fd);
        directory->state = HANDED_BACK;
        return;
    }
    ssize_t count = list_names(thread, fd);
    if (count < 0) {
        add_trouble(thread, directory, NULL, errno);
        directory->state = FAILED;
        close(fd);
        return;
    }
    if (atomic_load(&reading->stopping)) { /* perhaps before all names were there */
        close(fd);
        return;
    }
    if (count > (ssize_t)reading->shared) {
        slice(thread, directory, fd, (size_t)count);
        return;
    }
    char **names = (char **)thread->keys; /* a key is larger than a name: each is read before it is written over */
    for (ssize_t one = 0; one < count; one++) {
        char *name = thread->keys[one].name;
        names[one] = name;
    }
    thread->inside_count = 0;
    enum outcome came = read_names(thread, directory, fd, names, (size_t)count, 0, &directory->one);
    if (came != ALIKE) {
        if (came == ELSEWHERE)
            directory->state = HANDED_BACK;
        close(fd);
        return;
    }
    directory->segments = 1;
    directory->state = READ;
    hold_or_close(reading, directory, fd, thread->inside_count);
    push_inside(reading, directory, thread->inside, thread->inside_count);
}

static void *work(void *words)
{
    struct thread *thread = words;
    struct reading *reading = thread->reading;
    /* a current directory of its own, so that a name is looked up at once; elsewhere by way of the descriptor */
    thread->own_directory = unshare(CLONE_FS) == 0;
    pthread_mutex_lock(&reading->lock);
    for (;;) {
        while (!reading->waiting && reading->active && !atomic_load(&reading->stopping))
            pthread_cond_wait(&reading->more, &reading->lock);
        bool enough = atomic_load(&reading->total) >= reading->entry_limit;
        if (!reading->waiting || atomic_load(&reading->stopping) || enough)
            break;
        struct work next = reading->stack[--reading->waiting];
        reading->active++;
        reading->latest = next.directory;
        pthread_mutex_unlock(&reading->lock);
        if (next.piece == ALL)
            read_directory(thread, next.directory);
        else
            read_piece(thread, next.directory, next.piece);
        pthread_mutex_lock(&reading->lock);
        reading->active--;
        if (!reading->waiting && !reading->active)
            pthread_cond_broadcast(&reading->more);
    }
    pthread_cond_broadcast(&reading->more);
    if (--reading->running == 0)
        pthread_cond_broadcast(&reading->ended);
    pthread_mutex_unlock(&reading->lock);
    return NULL;
}

/* --- the object that Python holds --- */

static void join(struct reading *reading)
{
    if (reading->joined)
        return;
    reading->joined = true;
    for (uint32_t one = 0; one < reading->thread_count; one++)
        if (reading->threads[one].started)
            pthread_join(reading->threads[one].id, NULL);
}

static void stop(struct reading *reading)
{
    atomic_store(&reading->stopping, true);
    pthread_mutex_lock(&reading->lock);
    pthread_cond_broadcast(&reading->more);
    pthread_mutex_unlock(&reading->lock);
    join(reading);
}

static void free_thread(struct thread *thread)
{
    free(thread->profile);
    free(thread->inode);
    free(thread->links);
    free(thread->birth);
    free(thread->length);
    free(thread->size);
    free(thread->changed);
    free(thread->modified);
    free(thread->names);
    free(thread->start_numbers);
    numbered_free(&thread->rows);
    numbered_free(&thread->attributes);
    numbered_free(&thread->starts);
    for (size_t one = 0; one < thread->target_count; one++)
        free(thread->targets[one].to);
    free(thread->targets);
    for (size_t one = 0; one < thread->trouble_count; one++)
        free(thread->troubles[one].path);
    free(thread->troubles);
    free(thread->listing);
    free(thread->keys);
    free(thread->inside);
}

static void free_directories(struct reading *reading)
{
    while (reading->all) {
        struct directory *next = reading->all->next;
        struct sliced *sliced = reading->all->sliced;
        for (uint32_t piece = 0; sliced && piece < reading->all->segments; piece++)
            for (size_t one = 0; one < sliced->found[piece]; one++)
                free(sliced->inside[piece][one]);
        free_sliced(reading->all);
        if (reading->all->fd >= 0)
            close(reading->all->fd);
        free(reading->all->more);
        free(reading->all);
        reading->all = next;
    }
}

static void reading_free(PyObject *self)
{
    struct reading *reading = (struct reading *)self;
    if (reading->process == getpid()) { /* in a fork there are no threads to wait for, and nothing is freed */
        Py_BEGIN_ALLOW_THREADS
        stop(reading);
        Py_END_ALLOW_THREADS
        for (uint32_t one = 0; one < reading->thread_count; one++)
            free_thread(&reading->threads[one]);
        free(reading->threads);
        free_directories(reading);
        free(reading->stack);
        pthread_mutex_destroy(&reading->lock);
        pthread_cond_destroy(&reading->more);
        pthread_cond_destroy(&reading->ended);
        if (reading->top >= 0)
            close(reading->top);
    }
    for (size_t one = 0; one < reading->busy_count; one++)
        free(reading->busy[one]);
    free(reading->busy);
    free(reading->wheres);
    Py_XDECREF(reading->program);
    Py_XDECREF(reading->failure);
    PyTypeObject *type = Py_TYPE(self);
    freefunc release = (freefunc)PyType_GetSlot(type, Py_tp_free);
    release(self);
    Py_DECREF(type);
}

static bool where_from(PyObject *words, struct where *where)
{
    unsigned long long mount, device;
    if (!PyArg_ParseTuple(words, "KK", &mount, &device))
        return false;
    *where = (struct where){mount, (uint32_t)device, (uint32_t)(device >> 32)};
    return true;
}

/* The roots: for each the names from the top joined with a slash, and where it is, or None. */
static bool take_roots(struct reading *reading, PyObject *roots)
{
    Py_ssize_t count = PySequence_Size(roots);
    if (count < 0)
        return false;
    struct work *work = calloc((size_t)count + 1, sizeof *work);
    if (work == NULL) {
        PyErr_NoMemory();
        return false;
    }
    for (Py_ssize_t one = 0; one < count; one++) {
        PyObject *root = PySequence_GetItem(roots, one), *where;
        PyObject *named;
        char *path;
        Py_ssize_t length;
        struct directory *made = NULL;
        if (root && PyArg_ParseTuple(root, "SO", &named, &where) &&
            PyBytes_AsStringAndSize(named, &path, &length) == 0) {
            /* a root's name is all of its path */
            made = length > UINT16_MAX ? NULL : new_directory(NULL, path, (size_t)length);
            if (made == NULL) {
                PyErr_NoMemory();
            } else {
                made->root = (uint32_t)one;
                made->any_where = where == Py_None;
                add_to_all(reading, &made, 1);
                if (!made->any_where && !where_from(where, &made->where))
                    made = NULL;
            }
        }
        Py_XDECREF(root);
        if (made == NULL) {
            free(work);
            return false;
        }
        work[count - 1 - one] = (struct work){made, ALL};
    }
    push(reading, work, (size_t)count);
    free(work);
    return true;
}

static bool take_places(struct reading *reading, PyObject *wheres, PyObject *busy)
{
    Py_ssize_t count = PySequence_Size(wheres), more = PySequence_Size(busy);
    if (count < 0 || more < 0)
        return false;
    reading->wheres = calloc((size_t)count + 1, sizeof *reading->wheres);
    reading->busy = calloc((size_t)more + 1, sizeof *reading->busy);
    if (!reading->wheres || !reading->busy) {
        PyErr_NoMemory();
        return false;
    }
    for (Py_ssize_t one = 0; one < count; one++) {
        PyObject *where = PySequence_GetItem(wheres, one);
        bool taken = where && where_from(where, &reading->wheres[one]);
        Py_XDECREF(where);
        if (!taken)
            return false;
        reading->where_count++;
    }
    for (Py_ssize_t one = 0; one < more; one++) {
        PyObject *path = PySequence_GetItem(busy, one);
        const char *bytes = path ? PyBytes_AsString(path) : NULL;
        char *kept = bytes ? strdup(bytes) : NULL;
        Py_XDECREF(path);
        if (kept == NULL) {
            if (!PyErr_Occurred())
                PyErr_NoMemory();
            return false;
        }
        reading->busy[reading->busy_count++] = kept;
    }
    return true;
}

static bool start(struct reading *reading, unsigned int threads)
{
    threads = threads < 1 ? 1 : threads > MOST_THREADS ? MOST_THREADS : threads;
    reading->threads = calloc(threads, sizeof *reading->threads);
    if (reading->threads == NULL) {
        PyErr_NoMemory();
        return false;
    }
    reading->thread_count = threads;
    int error = 0;
    sigset_t all, before; /* whatever is sent to the process is for the thread that waits */
    sigfillset(&all);
    pthread_sigmask(SIG_SETMASK, &all, &before);
    pthread_mutex_lock(&reading->lock);
    for (uint32_t one = 0; one < reading->thread_count; one++) {
        struct thread *thread = &reading->threads[one];
        thread->reading = reading;
        thread->number = one;
        error = pthread_create(&thread->id, NULL, work, thread);
        if (error)
            break; /* those that have started will do */
        thread->started = true;
        reading->running++;
    }
    int running = reading->running;
    pthread_mutex_unlock(&reading->lock);
    pthread_sigmask(SIG_SETMASK, &before, NULL);
    if (!running) {
        errno = error;
        PyErr_SetFromErrno(PyExc_OSError);
        return false;
    }
    return true;
}

static PyObject *reading_new(PyTypeObject *type, PyObject *words, PyObject *named)
{
    static char *names[] = {"top", "roots", "wheres", "busy", "program", "threads", "most_open", "told_flags",
                            "entry_limit", "piece", "shared", "descends", "details", "by_name", NULL};
    int top, threads, most_open, descends, details, by_name_too;
    unsigned long long told_flags, entry_limit;
    unsigned int piece, shared;
    PyObject *roots, *wheres, *busy, *program;
    if (!PyArg_ParseTupleAndKeywords(words, named, "iOOOOiiKKIIppp", names, &top, &roots, &wheres, &busy, &program,
                                     &threads, &most_open, &told_flags, &entry_limit, &piece, &shared, &descends,
                                     &details, &by_name_too))
        return NULL;
    allocfunc allocate = (allocfunc)PyType_GetSlot(type, Py_tp_alloc);
    struct reading *reading = (struct reading *)allocate(type, 0);
    if (reading == NULL)
        return NULL;
    reading->process = getpid();
    reading->top = -1;
    reading->last = &reading->all;
    reading->descends = descends;
    reading->details = details;
    reading->by_name = by_name_too;
    reading->told_flags = told_flags;
    reading->entry_limit = entry_limit;
    reading->most_open = most_open;
    reading->piece = piece ? piece : 1;
    reading->shared = shared;
    Py_INCREF(program);
    reading->program = program;
    pthread_mutex_init(&reading->lock, NULL);
    pthread_cond_init(&reading->more, NULL);
    pthread_condattr_t clock;
    pthread_condattr_init(&clock);
    pthread_condattr_setclock(&clock, CLOCK_MONOTONIC);
    pthread_cond_init(&reading->ended, &clock);
    pthread_condattr_destroy(&clock);
    reading->top = fcntl(top, F_DUPFD_CLOEXEC, 0);
    if (reading->top < 0)
        PyErr_SetFromErrno(PyExc_OSError);
    else if (take_places(reading, wheres, busy) && take_roots(reading, roots) && start(reading, (unsigned)threads))
        return (PyObject *)reading;
    Py_DECREF(reading);
    return NULL;
}

static PyObject *reading_wait(PyObject *self, PyObject *words)
{
    struct reading *reading = (struct reading *)self;
    double seconds;
    if (!PyArg_ParseTuple(words, "d", &seconds))
        return NULL;
    struct timespec until;
    clock_gettime(CLOCK_MONOTONIC, &until);
    long long end = until.tv_nsec + (long long)(seconds * 1e9);
    until.tv_sec += end / 1000000000;
    until.tv_nsec = end % 1000000000;
    bool ended;
    Py_BEGIN_ALLOW_THREADS
    int late = 0;
    pthread_mutex_lock(&reading->lock);
    while (reading->running && late != ETIMEDOUT)
        late = pthread_cond_timedwait(&reading->ended, &reading->lock, &until);
    ended = !reading->running;
    pthread_mutex_unlock(&reading->lock);
    if (ended)
        join(reading);
    Py_END_ALLOW_THREADS
    return PyBool_FromLong(ended);
}

static PyObject *reading_stop(PyObject *self, PyObject *Py_UNUSED(none))
{
    struct reading *reading = (struct reading *)self;
    Py_BEGIN_ALLOW_THREADS
    stop(reading);
    Py_END_ALLOW_THREADS
    Py_RETURN_NONE;
}

static PyObject *reading_so_far(PyObject *self, PyObject *Py_UNUSED(none))
{
    struct reading *reading = (struct reading *)self;
    pthread_mutex_lock(&reading->lock);
    char *path = reading->latest ? path_of(reading->latest, NULL) : strdup("");
    pthread_mutex_unlock(&reading->lock);
    if (path == NULL)
        return PyErr_NoMemory();
    PyObject *found = Py_BuildValue("(Ky)", (unsigned long long)atomic_load(&reading->total), path);
    free(path);
    return found;
}

/* --- what was read, as one batch --- */

#define NO_NUMBER UINT32_MAX

/* What the rows and attributes of each thread are among all of them; only those that an entry has get a number. */
struct joined {
    struct numbered rows, attributes;
    uint32_t *row[MOST_THREADS], *said[MOST_THREADS];
};

static void joined_free(struct joined *joined)
{
    for (int one = 0; one < MOST_THREADS; one++) {
        free(joined->row[one]);
        free(joined->said[one]);
    }
    numbered_free(&joined->rows);
    numbered_free(&joined->attributes);
}

static bool joined_begin(const struct reading *reading, struct joined *joined)
{
    for (uint32_t one = 0; one < reading->thread_count; one++) {
        const struct thread *thread = &reading->threads[one];
        size_t rows = (thread->rows.count + 1) * sizeof(uint32_t), said = (thread->attributes.count + 1) * sizeof(uint32_t);
        joined->row[one] = malloc(rows);
        joined->said[one] = malloc(said);
        if (!joined->row[one] || !joined->said[one])
            return false;
        memset(joined->row[one], 0xFF, rows);
        memset(joined->said[one], 0xFF, said);
    }
    return true;
}

/* The number of a row of a thread among all; NO_NUMBER where there is no memory. */
static uint32_t joined_row(const struct reading *reading, struct joined *joined, uint32_t thread, uint32_t number)
{
    if (joined->row[thread][number] != NO_NUMBER)
        return joined->row[thread][number];
    const struct thread *theirs = &reading->threads[thread];
    struct row row;
    memcpy(&row, numbered_bytes(&theirs->rows, number), sizeof row);
    uint32_t said = (uint32_t)row.where;
    if (said) {
        uint32_t *known = &joined->said[thread][said - 1];
        if (*known == NO_NUMBER) {
            int64_t found = numbered_number(&joined->attributes, numbered_bytes(&theirs->attributes, said - 1),
                                            theirs->attributes.keys[said - 1].length);
            if (found < 0)
                return NO_NUMBER;
            *known = (uint32_t)found;
        }
        row.where = (row.where & ~(uint64_t)UINT32_MAX) | (*known + 1);
    }
    int64_t found = numbered_number(&joined->rows, &row, sizeof row);
    if (found >= 0)
        joined->row[thread][number] = (uint32_t)found;
    return joined->row[thread][number];
}

static const struct segment *segments_of(const struct directory *directory)
{
    return directory->more ? directory->more : &directory->one;
}

/* The entry of a directory: its number in the batch, or -1 less that of a root. */
static int32_t entry_of(const struct directory *directory)
{
    const struct directory *above = directory->above;
    if (above == NULL)
        return -1 - (int32_t)directory->root;
    return (int32_t)(above->first + segments_of(above)[directory->piece].before + directory->place);
}

static PyObject *list_of_attributes(const struct numbered *attributes)
{
    PyObject *list = PyList_New(0);
    for (size_t number = 0; list && number < attributes->count; number++) {
        PyObject *one = attributes_tuple(numbered_bytes(attributes, number), attributes->keys[number].length);
        if (one == NULL || PyList_Append(list, one) != 0)
            Py_CLEAR(list);
        Py_XDECREF(one);
    }
    return list;
}

/* The directories that wait, or were handed back: their entries, their paths from the top, whether Python reads them. */
static PyObject *list_of_unread(const struct reading *reading)
{
    PyObject *list = PyList_New(0);
    for (struct directory *one = reading->all; list && one; one = one->next) {
        if (one->state != WAITING && one->state != HANDED_BACK)
            continue;
        if (one->above && one->above->state != READ)
            continue;
        char *path = path_of(one, NULL);
        unsigned long long device = (unsigned long long)one->where.minor << 32 | one->where.major;
        PyObject *found = NULL;
        if (path == NULL)
            PyErr_NoMemory();
        else
            found = Py_BuildValue("(iyKKii)", (int)entry_of(one), path, (unsigned long long)one->where.mount, device,
                                  (int)one->any_where, (int)(one->state == HANDED_BACK));
        free(path);
        if (found == NULL || PyList_Append(list, found) != 0)
            Py_CLEAR(list);
        Py_XDECREF(found);
    }
    return list;
}

static PyObject *list_of_troubles(const struct reading *reading)
{
    PyObject *list = PyList_New(0);
    for (uint32_t one = 0; list && one < reading->thread_count; one++)
        for (size_t number = 0; list && number < reading->threads[one].trouble_count; number++) {
            struct trouble *trouble = &reading->threads[one].troubles[number];
            if (trouble->directory->state == HANDED_BACK)
                continue; /* Python will meet it */
            PyObject *found = Py_BuildValue("(yi)", trouble->path, trouble->number);
            if (found == NULL || PyList_Append(list, found) != 0)
                Py_CLEAR(list);
            Py_XDECREF(found);
        }
    return list;
}

struct columns {
    PyObject *profile, *inode, *links, *birth, *length, *size, *changed, *modified, *names, *directories, *counts;
};

static void drop_columns(struct columns *columns)
{
    Py_XDECREF(columns->profile);
    Py_XDECREF(columns->inode);
    Py_XDECREF(columns->links);
    Py_XDECREF(columns->birth);
    Py_XDECREF(columns->length);
    Py_XDECREF(columns->size);
    Py_XDECREF(columns->changed);
    Py_XDECREF(columns->modified);
    Py_XDECREF(columns->names);
    Py_XDECREF(columns->directories);
    Py_XDECREF(columns->counts);
}

static int by_entry(const void *one, const void *other)
{
    const struct target *a = one, *b = other;
    return a->entry < b->entry ? -1 : a->entry > b->entry;
}

/* Where links lead, by their entries in the batch. */
static PyObject *list_of_targets(const struct reading *reading)
{
    PyObject *list = PyList_New(0);
    for (uint32_t one = 0; one < reading->thread_count; one++)
        if (reading->threads[one].target_count)
            qsort(reading->threads[one].targets, reading->threads[one].target_count, sizeof(struct target), by_entry);
    for (const struct directory *directory = reading->all; list && directory; directory = directory->next) {
        if (directory->state != READ)
            continue;
        const struct segment *segments = segments_of(directory);
        size_t entry = directory->first;
        for (uint32_t piece = 0; piece < directory->segments; entry += segments[piece++].count) {
            const struct thread *thread = &reading->threads[segments[piece].thread];
            size_t low = 0, high = thread->target_count;
            while (low < high) { /* the first of the segment */
                size_t middle = (low + high) / 2;
                if (thread->targets[middle].entry < segments[piece].first)
                    low = middle + 1;
                else
                    high = middle;
            }
            size_t end = segments[piece].first + segments[piece].count;
            for (; list && low < thread->target_count && thread->targets[low].entry < end; low++) {
                const struct target *target = &thread->targets[low];
                PyObject *found = Py_BuildValue("(nN)", (Py_ssize_t)(entry + target->entry - segments[piece].first),
                                                bytes_of(target->to, target->length));
                if (found == NULL || PyList_Append(list, found) != 0)
                    Py_CLEAR(list);
                Py_XDECREF(found);
            }
        }
    }
    return list;
}

/* The numbers of the profiles of all entries; false where there is no memory. */
static bool fill_profiles(const struct reading *reading, struct joined *joined, uint32_t *into)
{
    bool room = true;
    for (const struct directory *one = reading->all; room && one; one = one->next) {
        const struct segment *segments = segments_of(one);
        for (uint32_t piece = 0; one->state == READ && piece < one->segments; piece++) {
            const struct segment *segment = &segments[piece];
            const uint32_t *theirs = reading->threads[segment->thread].profile;
            for (uint32_t entry = 0; entry < segment->count; entry++) {
                *into = joined_row(reading, joined, segment->thread, theirs[segment->first + entry]);
                room = room && *into++ != NO_NUMBER;
            }
        }
    }
    return room;
}

/* The names of all entries, one after the other. */
static void fill_names(const struct reading *reading, char *into)
{
    for (const struct directory *one = reading->all; one; one = one->next) {
        const struct segment *segments = segments_of(one);
        for (uint32_t piece = 0; one->state == READ && piece < one->segments; piece++) {
            const struct segment *segment = &segments[piece];
            if (segment->count)
                memcpy(into, reading->threads[segment->thread].names + segment->names, segment->bytes);
            into += segment->bytes;
        }
    }
}

static void fill_directories(const struct reading *reading, int32_t *entries, int32_t *counts)
{
    for (const struct directory *one = reading->all; one; one = one->next) {
        if (one->state != READ)
            continue;
        const struct segment *segments = segments_of(one);
        size_t count = 0;
        for (uint32_t piece = 0; piece < one->segments; piece++)
            count += segments[piece].count;
        *entries++ = entry_of(one);
        *counts++ = (int32_t)count;
    }
}

/* One column of all threads as that of the batch; theirs are freed, so that there are never two of all. */
static PyObject *gathered(struct reading *reading, size_t where, size_t size, size_t entries)
{
    PyObject *column = PyBytes_FromStringAndSize(NULL, (Py_ssize_t)(entries * size));
    if (column == NULL)
        return NULL;
    char *into = PyBytes_AsString(column);
    for (const struct directory *one = reading->all; entries && one; one = one->next) {
        const struct segment *segments = segments_of(one);
        for (uint32_t piece = 0; one->state == READ && piece < one->segments; piece++) {
            const struct segment *segment = &segments[piece];
            const char *theirs = *(char **)((char *)&reading->threads[segment->thread] + where);
            if (segment->count)
                memcpy(into, theirs + segment->first * size, segment->count * size);
            into += segment->count * size;
        }
    }
    for (uint32_t one = 0; one < reading->thread_count; one++) {
        char **theirs = (char **)((char *)&reading->threads[one] + where);
        free(*theirs);
        *theirs = NULL;
    }
    return column;
}

#define GATHERED(name, entries) \
    gathered(reading, offsetof(struct thread, name), sizeof *reading->threads->name, entries)

static bool fill_columns(struct reading *reading, struct columns *into, struct joined *joined, size_t entries,
                         size_t directories, size_t bytes)
{
    into->profile = PyBytes_FromStringAndSize(NULL, (Py_ssize_t)(entries * sizeof(uint32_t)));
    into->directories = PyBytes_FromStringAndSize(NULL, (Py_ssize_t)(directories * sizeof(int32_t)));
    into->counts = PyBytes_FromStringAndSize(NULL, (Py_ssize_t)(directories * sizeof(int32_t)));
    into->names = PyBytes_FromStringAndSize(NULL, (Py_ssize_t)bytes);
    if (!into->profile || !into->directories || !into->counts || !into->names)
        return false;
    fill_names(reading, PyBytes_AsString(into->names));
    for (uint32_t one = 0; one < reading->thread_count; one++) {
        free(reading->threads[one].names);
        reading->threads[one].names = NULL;
    }
    fill_directories(reading, (int32_t *)PyBytes_AsString(into->directories),
                     (int32_t *)PyBytes_AsString(into->counts));
    if (!fill_profiles(reading, joined, (uint32_t *)PyBytes_AsString(into->profile))) {
        PyErr_NoMemory();
        return false;
    }
    size_t detailed = reading->details ? entries : 0;
    into->inode = GATHERED(inode, entries);
    into->links = into->inode ? GATHERED(links, entries) : NULL;
    into->birth = into->links ? GATHERED(birth, entries) : NULL;
    into->length = into->birth ? GATHERED(length, entries) : NULL;
    into->size = into->length ? GATHERED(size, detailed) : NULL;
    into->changed = into->size ? GATHERED(changed, detailed) : NULL;
    into->modified = into->changed ? GATHERED(modified, detailed) : NULL;
    return into->modified != NULL;
}

static PyObject *reading_result(PyObject *self, PyObject *Py_UNUSED(none))
{
    struct reading *reading = (struct reading *)self;
    if (!reading->joined) {
        PyErr_SetString(PyExc_RuntimeError, "it is still being read");
        return NULL;
    }
    if (reading->taken) {
        PyErr_SetString(PyExc_RuntimeError, "its result was taken");
        return NULL;
    }
    reading->taken = true;
    if (reading->failure) {
        PyErr_SetObject((PyObject *)Py_TYPE(reading->failure), reading->failure);
        return NULL;
    }
    if (atomic_load(&reading->no_memory))
        return PyErr_NoMemory();
    size_t entries = 0, directories = 0, bytes = 0;
    bool left = reading->waiting > 0;
    for (struct directory *one = reading->all; one; one = one->next) {
        if (one->sliced) { /* it was stopped while the pieces were read: those count that were */
            one->state = atomic_load(&one->elsewhere) ? WAITING : READ;
            left = true;
        }
        left = left || one->state == WAITING;
        if (one->state != READ)
            continue;
        one->first = entries;
        directories++;
        struct segment *segments = one->more ? one->more : &one->one;
        for (uint32_t piece = 0; piece < one->segments; piece++) {
            segments[piece].before = entries - one->first;
            bytes += segments[piece].bytes;
            entries += segments[piece].count;
        }
    }
    struct columns into = {0};
    struct joined joined = {0};
    PyObject *found = NULL, *said = NULL, *unread = NULL, *troubles = NULL, *targets = NULL;
    bool room = joined_begin(reading, &joined);
    if (!room)
        PyErr_NoMemory();
    room = room && fill_columns(reading, &into, &joined, entries, directories, bytes);
    if (room) {
        said = list_of_attributes(&joined.attributes);
        unread = list_of_unread(reading);
        troubles = list_of_troubles(reading);
        targets = list_of_targets(reading);
    }
    if (said && unread && troubles && targets)
        found = Py_BuildValue("(OOOOOOOOOOOONOOOO)", into.profile, into.inode, into.links, into.birth, into.length,
                              into.size, into.changed, into.modified, into.names, into.directories, into.counts,
                              targets, bytes_of(joined.rows.arena, joined.rows.used), said, unread, troubles,
                              left ? Py_True : Py_False);
    Py_XDECREF(said);
    Py_XDECREF(unread);
    Py_XDECREF(troubles);
    Py_XDECREF(targets);
    drop_columns(&into);
    joined_free(&joined);
    return found;
}

static PyMethodDef methods[] = {
    {"wait", reading_wait, METH_VARARGS, "Wait so many seconds at most; whether all has been read."},
    {"stop", reading_stop, METH_NOARGS, "Have the threads end, and wait for that; what has been read stays."},
    {"so_far", reading_so_far, METH_NOARGS, "How many entries have been read, and one of the directories being read."},
    {"result", reading_result, METH_NOARGS, "What has been read; it can be taken once."},
    {NULL, NULL, 0, NULL},
};

static PyType_Slot slots[] = {
    {Py_tp_new, reading_new},
    {Py_tp_dealloc, reading_free},
    {Py_tp_methods, methods},
    {Py_tp_doc, "A tree that is being read, by threads of its own."},
    {0, NULL},
};

static PyType_Spec spec = {"fiat._native.Reading", sizeof(struct reading), 0, Py_TPFLAGS_DEFAULT, slots};

PyObject *reading_type(PyObject *module)
{
    return PyType_FromModuleAndSpec(module, &spec, NULL);
}
