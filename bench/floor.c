/* The floor that every speed is a ratio to.
 *
 *   floor read TREE    walks TREE and reads what Fiat reads: one status call for each entry,
 *                      the access list of what is no symlink, the default list of directories
 *   floor change TREE  after that, changes the mode of everything but symlinks, with the same
 *                      system calls as fiat set: opened, looked at, changed, looked at again
 *
 *   floor ask TREE UID GID...
 *                      lists TREE, becomes that user, in these groups, and asks the kernel of each
 *                      path whether it may be read, written, executed: three calls each
 *
 *   floor list TREE    prints a line for each path, with its mode, owner, group and lists as text,
 *                      asked for by the path: what any list of a tree has to do
 *
 * Prints the number of entries and the seconds that it took; to the second output where it lists.
 */
#define _GNU_SOURCE
#include <dirent.h>
#include <err.h>
#include <fcntl.h>
#include <grp.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/xattr.h>
#include <time.h>
#include <unistd.h>

static const char ACCESS[] = "system.posix_acl_access", DEFAULT[] = "system.posix_acl_default";
static long entries;
static unsigned long sum; /* so that nothing read is optimised away */

static double now(void)
{
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return t.tv_sec + t.tv_nsec / 1e9;
}

static void look(int fd, const char *path)
{
    struct statx s;
    char names[1024];
    if (statx(fd, "", AT_EMPTY_PATH, STATX_BASIC_STATS | STATX_BTIME | STATX_MNT_ID, &s) != 0)
        err(1, "statx");
    ssize_t length = listxattr(path, names, sizeof names);
    sum += s.stx_mode + s.stx_uid;
    for (ssize_t at = 0; at < length; at += strlen(names + at) + 1) {
        char value[4096];
        sum += getxattr(path, names + at, value, sizeof value);
    }
}

static void change(int directory, const char *name, mode_t mode)
{
    int fd = openat(directory, name, O_PATH | O_NOFOLLOW);
    if (fd < 0)
        err(1, "%s", name);
    char path[64];
    snprintf(path, sizeof path, "/proc/self/fd/%d", fd);
    look(fd, path);
    if (chmod(path, mode ^ 0001) != 0)
        err(1, "%s", name);
    look(fd, path);
    close(fd);
}

enum doing { READ, CHANGE, ASK, LIST };

static char **paths;

static void keep(const char *above, const char *name)
{
    if ((entries & (entries - 1)) == 0) /* with room for twice as many from each power of two on */
        paths = realloc(paths, 2 * (size_t)entries * sizeof *paths);
    if (asprintf(&paths[entries - 1], "%s%s", above, name) < 0)
        err(1, "asprintf");
}

static void ask(int top)
{
    static const int WANTED[] = {R_OK, W_OK, X_OK};
    for (long path = 0; path < entries; path++)
        for (int one = 0; one < 3; one++)
            sum += faccessat(top, paths[path], WANTED[one], AT_EACCESS | AT_SYMLINK_NOFOLLOW) == 0;
}

static void print_list(const char *path, const char *name)
{
    struct {
        unsigned short tag, permissions;
        unsigned int id;
    } entries_of_list[512];
    char value[4 + sizeof entries_of_list];
    ssize_t length = lgetxattr(path, name, value, sizeof value);
    if (length < 4)
        return;
    memcpy(entries_of_list, value + 4, (size_t)length - 4);
    for (size_t one = 0; one < ((size_t)length - 4) / sizeof *entries_of_list; one++)
        printf(" %x:%d:%c%c%c", entries_of_list[one].tag, (int)entries_of_list[one].id,
               entries_of_list[one].permissions & 4 ? 'r' : '-', entries_of_list[one].permissions & 2 ? 'w' : '-',
               entries_of_list[one].permissions & 1 ? 'x' : '-');
}

static void list(int top)
{
    if (fchdir(top) != 0)
        err(1, "fchdir");
    for (long path = 0; path < entries; path++) {
        struct stat status;
        if (lstat(paths[path], &status) != 0)
            continue;
        printf("%04o %u %u", status.st_mode & 07777, status.st_uid, status.st_gid);
        if (!S_ISLNK(status.st_mode))
            print_list(paths[path], ACCESS);
        if (S_ISDIR(status.st_mode))
            print_list(paths[path], DEFAULT);
        printf(" %s\n", paths[path]);
    }
}

static void walk(int fd, enum doing doing, const char *above)
{
    if (fchdir(fd) != 0)
        err(1, "fchdir");
    DIR *directory = fdopendir(dup(fd));
    if (directory == NULL)
        err(1, "fdopendir");
    char **inside = NULL;
    size_t count = 0;
    for (struct dirent *entry; (entry = readdir(directory)) != NULL;) {
        if (strcmp(entry->d_name, ".") == 0 || strcmp(entry->d_name, "..") == 0)
            continue;
        struct stat status;
        char value[4096];
        entries++;
        if (lstat(entry->d_name, &status) != 0)
            continue;
        sum += status.st_mode + status.st_uid;
        if (doing >= ASK)
            keep(above, entry->d_name);
        else if (!S_ISLNK(status.st_mode))
            sum += lgetxattr(entry->d_name, ACCESS, value, sizeof value);
        if (S_ISDIR(status.st_mode)) {
            if (doing < ASK)
                sum += lgetxattr(entry->d_name, DEFAULT, value, sizeof value);
            if (count % 64 == 0)
                inside = realloc(inside, (count + 64) * sizeof *inside);
            inside[count++] = strdup(entry->d_name);
        }
        if (doing == CHANGE && !S_ISLNK(status.st_mode))
            change(fd, entry->d_name, status.st_mode & 07777);
    }
    closedir(directory);
    for (size_t number = 0; number < count; number++) {
        int child = openat(fd, inside[number], O_RDONLY | O_DIRECTORY | O_NOFOLLOW);
        if (child >= 0) {
            char *below = NULL;
            if (doing >= ASK && asprintf(&below, "%s%s/", above, inside[number]) < 0)
                err(1, "asprintf");
            walk(child, doing, below);
            free(below);
            close(child);
        }
        free(inside[number]);
    }
    free(inside);
}

static void become(uid_t uid, char **groups, size_t count)
{
    gid_t gids[256];
    if (count > sizeof gids / sizeof *gids)
        errx(2, "too many groups");
    for (size_t one = 0; one < count; one++)
        gids[one] = (gid_t)atol(groups[one]);
    if (setgroups(count, gids) != 0 || setresgid(gids[0], gids[0], gids[0]) != 0 || setresuid(uid, uid, uid) != 0)
        err(1, "become %ld", (long)uid);
}

int main(int count, char **words)
{
    enum doing doing = count > 4 && strcmp(words[1], "ask") == 0 ? ASK
                       : count == 3 && strcmp(words[1], "change") == 0 ? CHANGE
                       : count == 3 && strcmp(words[1], "list") == 0 ? LIST : READ;
    if (doing == READ && (count != 3 || strcmp(words[1], "read") != 0))
        errx(2, "usage: floor read|change|list TREE, or floor ask TREE UID GID...");
    int top = open(words[2], O_RDONLY | O_DIRECTORY);
    if (top < 0)
        err(1, "%s", words[2]);
    double begun = now();
    walk(top, doing, "");
    if (doing == ASK) {
        become((uid_t)atol(words[3]), words + 4, (size_t)count - 4);
        ask(top);
    }
    if (doing == LIST)
        list(top);
    fflush(stdout);
    fprintf(doing == LIST ? stderr : stdout, "%ld %.6f %lu\n", entries, now() - begun, sum & 1);
    return 0;
}
