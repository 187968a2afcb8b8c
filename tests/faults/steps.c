/* Counts every step that changes the disk below some folder, writes them down, and makes one of them fail.

   Loaded before the C library (LD_PRELOAD), so that steps of the codec and database libraries count as well. What to
   do stands in a file that all processes of a command share (STEPS_CONTROL); which folder counts, in STEPS_BELOW. */

#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <fcntl.h>
#include <limits.h>
#include <signal.h>
#include <stdarg.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <sys/types.h>
#include <unistd.h>

struct control {
    int64_t count;  /* steps so far */
    int64_t at;     /* the step, from 0, that does not happen; below 0 for none */
    int64_t what;   /* 0: nothing, -1: kill all processes of the command, -2: kill this one, else the error */
    int64_t onward; /* whether every step from there on fails */
    int64_t fired;
    int64_t lost;   /* the inode of the file that could not be brought to the disk, which the system tells once */
};

static struct control *control;
static const char *below;
static int log_to = -1;

static int ready(void) {
    if (control) return 1;
    const char *path = getenv("STEPS_CONTROL");
    const char *folder = getenv("STEPS_BELOW");
    if (!path || !folder) return 0;
    below = strdup(folder);
    int descriptor = (int)syscall(SYS_openat, AT_FDCWD, path, O_RDWR | O_CLOEXEC, 0);
    if (descriptor < 0) return 0;
    void *shared = mmap(NULL, sizeof *control, PROT_READ | PROT_WRITE, MAP_SHARED, descriptor, 0);
    syscall(SYS_close, descriptor);
    if (shared == MAP_FAILED) return 0;
    const char *log = getenv("STEPS_LOG");
    if (log) log_to = (int)syscall(SYS_openat, AT_FDCWD, log, O_WRONLY | O_APPEND | O_CREAT | O_CLOEXEC, 0600);
    control = shared;
    return 1;
}

static int counts(int folder, const char *path, char *whole) {
    if (!ready()) return 0;
    if (path && path[0] == '/') {
        snprintf(whole, 2 * PATH_MAX, "%s", path);
    } else {
        char link[64], base[PATH_MAX];
        if (folder == AT_FDCWD) {
            if (syscall(SYS_getcwd, base, sizeof base) < 0) return 0;
        } else {
            snprintf(link, sizeof link, "/proc/self/fd/%d", folder);
            ssize_t length = readlink(link, base, sizeof base - 1);
            if (length < 0) return 0;
            base[length] = 0;
        }
        if (path) snprintf(whole, 2 * PATH_MAX, "%s/%s", base, path);
        else snprintf(whole, 2 * PATH_MAX, "%s", base);
    }
    return strncmp(whole, below, strlen(below)) == 0;
}

/* -1 with errno set where the step is not to happen. */
static int step(const char *name, int folder, const char *path) {
    char whole[2 * PATH_MAX];
    int before = errno;
    if (!counts(folder, path, whole)) { errno = before; return 0; }
    int64_t number = __sync_fetch_and_add(&control->count, 1);
    if (log_to >= 0) {
        char line[2 * PATH_MAX + 64];
        int length = snprintf(line, sizeof line, "%ld %s %s\n", (long)number, name, whole + strlen(below));
        syscall(SYS_write, log_to, line, length);
    }
    if (control->what && control->at >= 0 &&
        !(control->what == ENOSPC && (name[0] == 'u' || name[1] == 'm')) && /* a full disk lets files go */
        (number == control->at || (control->onward && number > control->at))) {
        control->fired = 1;
        if (control->what == -1) { syscall(SYS_kill, 0, SIGKILL); for (;;) pause(); }
        if (control->what == -2) { syscall(SYS_kill, (long)getpid(), SIGKILL); for (;;) pause(); }
        errno = (int)control->what;
        return -1;
    }
    errno = before;
    return 0;
}

#define NEXT(name) ((typeof(&name))dlsym(RTLD_NEXT, #name))

static mode_t mode_of(int flags, va_list more) {
    return flags & (O_CREAT | O_TMPFILE) ? (mode_t)va_arg(more, int) : 0;
}
#define CHANGES(flags) ((flags) & (O_CREAT | O_TRUNC))

int open(const char *path, int flags, ...) {
    va_list more; va_start(more, flags); mode_t mode = mode_of(flags, more); va_end(more);
    if (CHANGES(flags) && step("open", AT_FDCWD, path)) return -1;
    return NEXT(open)(path, flags, mode);
}
int open64(const char *path, int flags, ...) {
    va_list more; va_start(more, flags); mode_t mode = mode_of(flags, more); va_end(more);
    if (CHANGES(flags) && step("open", AT_FDCWD, path)) return -1;
    return NEXT(open64)(path, flags, mode);
}
int openat(int folder, const char *path, int flags, ...) {
    va_list more; va_start(more, flags); mode_t mode = mode_of(flags, more); va_end(more);
    if (CHANGES(flags) && step("open", folder, path)) return -1;
    return NEXT(openat)(folder, path, flags, mode);
}
int openat64(int folder, const char *path, int flags, ...) {
    va_list more; va_start(more, flags); mode_t mode = mode_of(flags, more); va_end(more);
    if (CHANGES(flags) && step("open", folder, path)) return -1;
    return NEXT(openat64)(folder, path, flags, mode);
}
ssize_t write(int file, const void *data, size_t count) {
    if (step("write", file, NULL)) return -1;
    return NEXT(write)(file, data, count);
}
ssize_t pwrite(int file, const void *data, size_t count, off_t place) {
    if (step("write", file, NULL)) return -1;
    return NEXT(pwrite)(file, data, count, place);
}
ssize_t pwrite64(int file, const void *data, size_t count, off64_t place) {
    if (step("write", file, NULL)) return -1;
    return NEXT(pwrite64)(file, data, count, place);
}
ssize_t copy_file_range(int from, off64_t *start, int file, off64_t *place, size_t count, unsigned int flags) {
    if (step("write", file, NULL)) return -1;
    return NEXT(copy_file_range)(from, start, file, place, count, flags);
}
int ftruncate(int file, off_t size) {
    if (step("truncate", file, NULL)) return -1;
    return NEXT(ftruncate)(file, size);
}
int ftruncate64(int file, off64_t size) {
    if (step("truncate", file, NULL)) return -1;
    return NEXT(ftruncate64)(file, size);
}
static int failed_sync(int file) {
    struct stat about;
    int before = errno;
    if (fstat(file, &about) == 0 && S_ISREG(about.st_mode)) {
        control->lost = (int64_t)about.st_ino;
        syscall(SYS_dup, file); /* so that no other file gets its number */
    }
    errno = before;
    return -1;
}
int fsync(int file) {
    if (step("sync", file, NULL)) return failed_sync(file);
    return NEXT(fsync)(file);
}
int fdatasync(int file) {
    if (step("sync", file, NULL)) return failed_sync(file);
    return NEXT(fdatasync)(file);
}
int rename(const char *old, const char *new) {
    if (step("rename", AT_FDCWD, new)) return -1;
    return NEXT(rename)(old, new);
}
int renameat(int from, const char *old, int to, const char *new) {
    if (step("rename", to, new)) return -1;
    return NEXT(renameat)(from, old, to, new);
}
int renameat2(int from, const char *old, int to, const char *new, unsigned int flags) {
    if (getenv("STEPS_OLD_SYSTEM")) { errno = EINVAL; return -1; } /* as file systems that cannot */
    if (step(flags & 2 ? "exchange" : "rename", to, new)) return -1;
    return NEXT(renameat2)(from, old, to, new, flags);
}
int link(const char *old, const char *new) {
    if (step("link", AT_FDCWD, new)) return -1;
    return NEXT(link)(old, new);
}
int linkat(int from, const char *old, int to, const char *new, int flags) {
    if (step("link", to, new)) return -1;
    return NEXT(linkat)(from, old, to, new, flags);
}
int unlink(const char *path) {
    if (step("unlink", AT_FDCWD, path)) return -1;
    return NEXT(unlink)(path);
}
int unlinkat(int folder, const char *path, int flags) {
    if (step("unlink", folder, path)) return -1;
    return NEXT(unlinkat)(folder, path, flags);
}
int mkdir(const char *path, mode_t mode) {
    if (step("mkdir", AT_FDCWD, path)) return -1;
    return NEXT(mkdir)(path, mode);
}
int mkdirat(int folder, const char *path, mode_t mode) {
    if (step("mkdir", folder, path)) return -1;
    return NEXT(mkdirat)(folder, path, mode);
}
int rmdir(const char *path) {
    if (step("rmdir", AT_FDCWD, path)) return -1;
    return NEXT(rmdir)(path);
}
int chmod(const char *path, mode_t mode) {
    if (step("chmod", AT_FDCWD, path)) return -1;
    return NEXT(chmod)(path, mode);
}
int fchmodat(int folder, const char *path, mode_t mode, int flags) {
    if (step("chmod", folder, path)) return -1;
    return NEXT(fchmodat)(folder, path, mode, flags);
}
int utimensat(int folder, const char *path, const struct timespec times[2], int flags) {
    if (step("touch", folder, path)) return -1;
    return NEXT(utimensat)(folder, path, times, flags);
}
