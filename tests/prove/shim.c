/* Stands between a program and the C library: counts the calls that change or open files, and at a chosen one ends the
   process or refuses with a chosen error. With a log it also notes what every call changes. Preloaded (ld.so(8)). */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <fcntl.h>
#include <limits.h>
#include <signal.h>
#include <stdarg.h>
#include <stdint.h>
#include <stdio.h>
#include <string.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <unistd.h>

static volatile long counted, at_call = -1, refused;
static volatile int refuse_with, kinds = 3, log_fd = -1, busy;
enum { CHANGE = 1, OTHER = 2 };

/* Begin to count. At call `number` (from 0; -1 for none) of the `which` kinds: end, or, with an error, refuse it. */
void shim_arm(long number, int error, int which, int log) {
    counted = 0; at_call = number; refuse_with = error; kinds = which; refused = 0; log_fd = log;
}
long shim_counted(void) { return counted; }
long shim_refused(void) { return refused; }

static int turned_away(int kind) {
    if (busy || !(kinds & kind) || counted++ != at_call) return 0;
    if (!refuse_with) kill(getpid(), SIGKILL);
    refused++; errno = refuse_with;
    return 1;
}

#define REAL(type, name, ...) static type (*real)(__VA_ARGS__); if (!real) real = dlsym(RTLD_NEXT, #name)

static void put(const void *data, size_t size) {
    REAL(ssize_t, write, int, const void *, size_t);
    const char *next = data;
    while (size) { ssize_t done = real(log_fd, next, size); if (done <= 0) return; next += done; size -= done; }
}
static void put_text(const char *text) { uint64_t size = strlen(text); put(&size, 8); put(text, size); }
static void path_of(int fd, char *room) {
    char link[64]; snprintf(link, sizeof link, "/proc/self/fd/%d", fd);
    ssize_t size = readlink(link, room, PATH_MAX - 1); room[size < 0 ? 0 : size] = 0;
}
static void whole(int dir, const char *name, char *room) {
    if (name[0] == '/' || dir == AT_FDCWD) { snprintf(room, PATH_MAX, "%s", name); return; }
    path_of(dir, room); size_t used = strlen(room); snprintf(room + used, PATH_MAX - used, "/%s", name);
}
static void note(char what, const char *first, const char *second, uint64_t number, const void *data, uint64_t size) {
    if (log_fd < 0 || busy) return;
    busy = 1; put(&what, 1); put_text(first); put_text(second ? second : ""); put(&number, 8); put(&size, 8);
    if (data && size) put(data, size);
    busy = 0;
}

static int opening(int (*call)(int, const char *, int, mode_t), int dir, const char *name, int flags, mode_t mode) {
    int making = flags & (O_CREAT | O_TRUNC);
    if (turned_away(making ? CHANGE : OTHER)) return -1;
    struct stat before; int was = fstatat(dir, name, &before, 0) == 0;
    int fd = call(dir, name, flags, mode);
    if (fd >= 0 && making && log_fd >= 0) {
        char room[PATH_MAX]; whole(dir, name, room);
        struct stat about; fstat(fd, &about);
        note(was ? (flags & O_TRUNC ? 't' : '-') : 'c', room, 0, about.st_ino, 0, 0);
    }
    return fd;
}
static int real_open(int dir, const char *name, int flags, mode_t mode) {
    REAL(int, openat64, int, const char *, int, ...); return real(dir, name, flags, mode);
}
#define MODE mode_t mode = 0; if (flags & (O_CREAT | __O_TMPFILE)) { va_list rest; va_start(rest, flags); mode = va_arg(rest, mode_t); va_end(rest); }
int open64(const char *name, int flags, ...) { MODE return opening(real_open, AT_FDCWD, name, flags, mode); }
int open(const char *name, int flags, ...) { MODE return opening(real_open, AT_FDCWD, name, flags, mode); }
int openat64(int dir, const char *name, int flags, ...) { MODE return opening(real_open, dir, name, flags, mode); }
int openat(int dir, const char *name, int flags, ...) { MODE return opening(real_open, dir, name, flags, mode); }

static int is_file(int fd) { struct stat about; return fd > 2 && fd != log_fd && !fstat(fd, &about) && S_ISREG(about.st_mode); }
ssize_t write(int fd, const void *data, size_t size) {
    REAL(ssize_t, write, int, const void *, size_t);
    if (busy || !is_file(fd)) return real(fd, data, size);
    if (turned_away(CHANGE)) return -1;
    off_t place = fcntl(fd, F_GETFL) & O_APPEND ? lseek(fd, 0, SEEK_END) : lseek(fd, 0, SEEK_CUR);
    ssize_t done = real(fd, data, size);
    if (done > 0 && log_fd >= 0) { char room[PATH_MAX]; path_of(fd, room); note('w', room, 0, place, data, done); }
    return done;
}
ssize_t read(int fd, void *data, size_t size) {
    REAL(ssize_t, read, int, void *, size_t);
    return is_file(fd) && turned_away(OTHER) ? -1 : real(fd, data, size);
}
ssize_t pwrite64(int fd, const void *data, size_t size, off64_t place) {
    REAL(ssize_t, pwrite64, int, const void *, size_t, off64_t);
    if (busy || !is_file(fd)) return real(fd, data, size, place);
    if (turned_away(CHANGE)) return -1;
    ssize_t done = real(fd, data, size, place);
    if (done > 0 && log_fd >= 0) { char room[PATH_MAX]; path_of(fd, room); note('w', room, 0, place, data, done); }
    return done;
}
ssize_t pwrite(int fd, const void *data, size_t size, off_t place) { return pwrite64(fd, data, size, place); }
ssize_t pread64(int fd, void *data, size_t size, off64_t place) {
    REAL(ssize_t, pread64, int, void *, size_t, off64_t);
    return is_file(fd) && turned_away(OTHER) ? -1 : real(fd, data, size, place);
}
ssize_t pread(int fd, void *data, size_t size, off_t place) { return pread64(fd, data, size, place); }
#define BY_FD(what, name, extra_args, call_args, number) \
int name(int fd extra_args) { REAL(int, name, int extra_args); if (turned_away(CHANGE)) return -1; \
    int done = real(fd call_args); if (!done && log_fd >= 0) { char room[PATH_MAX]; path_of(fd, room); note(what, room, 0, number, 0, 0); } return done; }
#define COMMA ,
BY_FD('s', fsync, , , 0)
BY_FD('s', fdatasync, , , 0)
BY_FD('z', ftruncate64, COMMA off64_t size, COMMA size, size)
BY_FD('z', ftruncate, COMMA off_t size, COMMA size, size)
BY_FD('-', fchmod, COMMA mode_t mode, COMMA mode, 0)
BY_FD('-', fchown, COMMA uid_t user COMMA gid_t group, COMMA user COMMA group, 0)
BY_FD('-', flock, COMMA int how, COMMA how, 0)
int posix_fallocate64(int fd, off64_t start, off64_t size) {
    REAL(int, posix_fallocate64, int, off64_t, off64_t);
    if (turned_away(CHANGE)) return errno;
    int done = real(fd, start, size);
    if (!done && log_fd >= 0) { char room[PATH_MAX]; path_of(fd, room); note('z', room, 0, start + size, 0, 0); }
    return done;
}
int posix_fallocate(int fd, off_t start, off_t size) { return posix_fallocate64(fd, start, size); }
off64_t lseek64(int fd, off64_t place, int whence) {
    REAL(off64_t, lseek64, int, off64_t, int);
    return whence >= SEEK_DATA && turned_away(OTHER) ? -1 : real(fd, place, whence);
}

#define BY_NAMES(what, name, args, names_of, call) \
int name args { REAL(int, name, int, ...); (void)real; if (turned_away(CHANGE)) return -1; \
    char one[PATH_MAX] = "", two[PATH_MAX] = ""; if (log_fd >= 0) { names_of; } int done = call; if (!done) note(what, one, two, 0, 0, 0); return done; }
#define NEXT(type, name, ...) ({ static type (*next)(__VA_ARGS__); if (!next) next = dlsym(RTLD_NEXT, #name); next; })
#define TWO whole(d, a, one); whole(e, b, two)
BY_NAMES('r', renameat2, (int d, const char *a, int e, const char *b, unsigned flags), TWO, NEXT(int, renameat2, int, const char *, int, const char *, unsigned)(d, a, e, b, flags))
BY_NAMES('r', renameat, (int d, const char *a, int e, const char *b), TWO, NEXT(int, renameat, int, const char *, int, const char *)(d, a, e, b))
BY_NAMES('r', rename, (const char *a, const char *b), snprintf(one, PATH_MAX, "%s", a); snprintf(two, PATH_MAX, "%s", b), NEXT(int, rename, const char *, const char *)(a, b))
BY_NAMES('h', link, (const char *a, const char *b), snprintf(one, PATH_MAX, "%s", a); snprintf(two, PATH_MAX, "%s", b), NEXT(int, link, const char *, const char *)(a, b))
BY_NAMES('h', linkat, (int d, const char *a, int e, const char *b, int flags), TWO, NEXT(int, linkat, int, const char *, int, const char *, int)(d, a, e, b, flags))
BY_NAMES('u', unlink, (const char *a), snprintf(one, PATH_MAX, "%s", a), NEXT(int, unlink, const char *)(a))
BY_NAMES('u', unlinkat, (int d, const char *a, int flags), whole(d, a, one), NEXT(int, unlinkat, int, const char *, int)(d, a, flags))
BY_NAMES('u', rmdir, (const char *a), snprintf(one, PATH_MAX, "%s", a), NEXT(int, rmdir, const char *)(a))
BY_NAMES('m', mkdir, (const char *a, mode_t mode), snprintf(one, PATH_MAX, "%s", a), NEXT(int, mkdir, const char *, mode_t)(a, mode))
BY_NAMES('m', mkdirat, (int d, const char *a, mode_t mode), whole(d, a, one), NEXT(int, mkdirat, int, const char *, mode_t)(d, a, mode))
BY_NAMES('-', chmod, (const char *a, mode_t mode), (void)one, NEXT(int, chmod, const char *, mode_t)(a, mode))
BY_NAMES('-', utimensat, (int d, const char *a, const struct timespec t[2], int flags), (void)one, NEXT(int, utimensat, int, const char *, const struct timespec *, int)(d, a, t, flags))
