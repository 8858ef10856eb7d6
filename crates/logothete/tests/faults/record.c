/* Stands between a program and its files, for tests: records what is written to the files of a folder, or refuses it.
 *
 * Loaded before the C library (LD_PRELOAD). FAULTS_FOLDER is the folder; nothing outside it is touched.
 *   FAULTS_LOG=FILE        every change is appended to FILE: see `log_change`
 *   FAULTS_FULL_AFTER=N    when N bytes have been written, the disk is full (ENOSPC)
 *   FAULTS_READ_ONLY=1     nothing may be made, changed or removed (EROFS)
 */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <fcntl.h>
#include <limits.h>
#include <pthread.h>
#include <stdarg.h>
#include <stdint.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/types.h>
#include <sys/uio.h>
#include <unistd.h>

#define FILES 4096

static char *paths[FILES]; /* of open files in the folder, by number */
static pthread_mutex_t lock = PTHREAD_MUTEX_INITIALIZER;
static int log_file = -1;
static long long room = -1;

#define REAL(name) ((__typeof__(name) *)dlsym(RTLD_NEXT, #name))

static const char *folder(void) { return getenv("FAULTS_FOLDER"); }
static int read_only(void) { return getenv("FAULTS_READ_ONLY") != NULL; }

/* Whether a path is in the folder; its absolute form. The shared-memory file of SQLite is rebuilt after a crash. */
static int inside(const char *path, char *whole) {
    const char *in = folder();
    if (!in || !path) return 0;
    if (path[0] == '/') {
        if (strlen(path) >= PATH_MAX) return 0;
        strcpy(whole, path);
    } else {
        if (!getcwd(whole, PATH_MAX) || strlen(whole) + strlen(path) + 2 >= PATH_MAX) return 0;
        strcat(whole, "/");
        strcat(whole, path);
    }
    size_t length = strlen(whole);
    if (length > 4 && strcmp(whole + length - 4, "-shm") == 0) return 0;
    return strncmp(whole, in, strlen(in)) == 0 && (whole[strlen(in)] == '/' || whole[strlen(in)] == 0);
}

static void put(const void *bytes, size_t count) {
    while (count > 0) {
        ssize_t done = REAL(write)(log_file, bytes, count);
        if (done <= 0) abort();
        bytes = (const char *)bytes + done;
        count -= done;
    }
}

/* kind (1 byte), offset (8), length of the path (4), length of the data (4), the path, the data */
static void log_change(char kind, const char *path, uint64_t offset, const void *data, uint32_t length) {
    const char *name = getenv("FAULTS_LOG");
    if (!name) return;
    pthread_mutex_lock(&lock);
    if (log_file < 0) log_file = REAL(open)(name, O_WRONLY | O_CREAT | O_APPEND | O_CLOEXEC, 0600);
    uint32_t path_length = strlen(path);
    put(&kind, 1);
    put(&offset, 8);
    put(&path_length, 4);
    put(&length, 4);
    put(path, path_length);
    put(data, length);
    pthread_mutex_unlock(&lock);
}

/* Takes from the room that is left; whether there is enough. */
static int fits(size_t count) {
    const char *most = getenv("FAULTS_FULL_AFTER");
    if (!most) return 1;
    pthread_mutex_lock(&lock);
    if (room < 0) room = atoll(most);
    int enough = room >= (long long)count;
    room = enough ? room - (long long)count : 0;
    pthread_mutex_unlock(&lock);
    return enough;
}

static int opened(int file, const char *whole, int flags, int was_there) {
    if (file >= 0 && file < FILES) {
        if (!was_there && (flags & O_CREAT)) log_change('c', whole, 0, NULL, 0);
        if (was_there && (flags & O_TRUNC)) log_change('t', whole, 0, NULL, 0);
        pthread_mutex_lock(&lock);
        free(paths[file]);
        paths[file] = strdup(whole);
        pthread_mutex_unlock(&lock);
    }
    return file;
}

#define OPEN(name)                                                                                    \
    int name(const char *path, int flags, ...) {                                                     \
        va_list rest;                                                                                 \
        va_start(rest, flags);                                                                        \
        mode_t mode = (flags & (O_CREAT | O_TMPFILE)) ? va_arg(rest, mode_t) : 0;                     \
        va_end(rest);                                                                                 \
        char whole[PATH_MAX];                                                                         \
        if (!inside(path, whole)) return REAL(name)(path, flags, mode);                               \
        if (read_only() && (flags & (O_WRONLY | O_RDWR | O_CREAT | O_TRUNC))) {                       \
            errno = EROFS;                                                                            \
            return -1;                                                                                \
        }                                                                                             \
        int was_there = access(path, F_OK) == 0;                                                      \
        return opened(REAL(name)(path, flags, mode), whole, flags, was_there);                        \
    }
OPEN(open)
OPEN(open64)

#define OPENAT(name)                                                                                  \
    int name(int at, const char *path, int flags, ...) {                                             \
        va_list rest;                                                                                 \
        va_start(rest, flags);                                                                        \
        mode_t mode = (flags & (O_CREAT | O_TMPFILE)) ? va_arg(rest, mode_t) : 0;                     \
        va_end(rest);                                                                                 \
        char whole[PATH_MAX];                                                                         \
        if ((at != AT_FDCWD && path[0] != '/') || !inside(path, whole)) return REAL(name)(at, path, flags, mode); \
        if (read_only() && (flags & (O_WRONLY | O_RDWR | O_CREAT | O_TRUNC))) {                       \
            errno = EROFS;                                                                            \
            return -1;                                                                                \
        }                                                                                             \
        int was_there = access(path, F_OK) == 0;                                                      \
        return opened(REAL(name)(at, path, flags, mode), whole, flags, was_there);                    \
    }
OPENAT(openat)
OPENAT(openat64)

static const char *path_of(int file) { return file >= 0 && file < FILES ? paths[file] : NULL; }

int close(int file) {
    if (path_of(file)) {
        pthread_mutex_lock(&lock);
        free(paths[file]);
        paths[file] = NULL;
        pthread_mutex_unlock(&lock);
    }
    return REAL(close)(file);
}

ssize_t write(int file, const void *bytes, size_t count) {
    const char *path = path_of(file);
    if (!path) return REAL(write)(file, bytes, count);
    if (!fits(count)) {
        errno = ENOSPC;
        return -1;
    }
    int flags = fcntl(file, F_GETFL);
    off_t at = lseek(file, 0, (flags & O_APPEND) ? SEEK_END : SEEK_CUR);
    ssize_t done = REAL(write)(file, bytes, count);
    if (done > 0) log_change('w', path, at, bytes, done);
    return done;
}

#define PWRITE(name, offset_type)                                                                     \
    ssize_t name(int file, const void *bytes, size_t count, offset_type at) {                        \
        const char *path = path_of(file);                                                             \
        if (!path) return REAL(name)(file, bytes, count, at);                                         \
        if (!fits(count)) {                                                                           \
            errno = ENOSPC;                                                                           \
            return -1;                                                                                \
        }                                                                                             \
        ssize_t done = REAL(name)(file, bytes, count, at);                                            \
        if (done > 0) log_change('w', path, at, bytes, done);                                         \
        return done;                                                                                  \
    }
PWRITE(pwrite, off_t)
PWRITE(pwrite64, off64_t)

/* Nothing that is recorded writes so; if it did, the record would have a hole. */
ssize_t writev(int file, const struct iovec *parts, int count) {
    if (path_of(file)) abort();
    return REAL(writev)(file, parts, count);
}

#define TRUNCATE(name, offset_type)                                                                   \
    int name(int file, offset_type length) {                                                          \
        const char *path = path_of(file);                                                             \
        int done = REAL(name)(file, length);                                                          \
        if (path && done == 0) log_change('t', path, length, NULL, 0);                                \
        return done;                                                                                  \
    }
TRUNCATE(ftruncate, off_t)
TRUNCATE(ftruncate64, off64_t)

#define SYNC(name)                                                                                    \
    int name(int file) {                                                                              \
        const char *path = path_of(file);                                                             \
        int done = REAL(name)(file);                                                                  \
        if (path && done == 0) log_change('s', path, 0, NULL, 0);                                     \
        return done;                                                                                  \
    }
SYNC(fsync)
SYNC(fdatasync)

int rename(const char *from, const char *to) {
    char whole_from[PATH_MAX], whole_to[PATH_MAX];
    int is_inside = inside(from, whole_from) && inside(to, whole_to);
    if (is_inside && read_only()) {
        errno = EROFS;
        return -1;
    }
    int done = REAL(rename)(from, to);
    if (is_inside && done == 0) log_change('r', whole_from, 0, whole_to, strlen(whole_to));
    return done;
}

int unlink(const char *path) {
    char whole[PATH_MAX];
    int is_inside = inside(path, whole);
    if (is_inside && read_only()) {
        errno = EROFS;
        return -1;
    }
    int done = REAL(unlink)(path);
    if (is_inside && done == 0) log_change('u', whole, 0, NULL, 0);
    return done;
}

int mkdir(const char *path, mode_t mode) {
    char whole[PATH_MAX];
    int is_inside = inside(path, whole);
    if (is_inside && read_only() && access(path, F_OK) != 0) {
        errno = EROFS;
        return -1;
    }
    int done = REAL(mkdir)(path, mode);
    if (is_inside && done == 0) log_change('d', whole, 0, NULL, 0);
    return done;
}
