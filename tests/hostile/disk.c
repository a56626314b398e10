/* What a program under test does to its files: recorded, and made to fail.
 *
 * Loaded before the C library (LD_PRELOAD). Calls about files in the folder DISK_FOLDER are appended to the file
 * DISK_RECORD, each before it is done, so that tests can replay what a loss of power leaves. The file DISK_FAULT, which
 * this process maps, holds four numbers of 32 bits: the call that fails (as below; 0 for none), its errno (0: a short
 * write), how many such calls still succeed, and how many fail then.
 *
 * A record: the call, the length of the path, the length of the data (32 bits each), the offset (64 bits); path, data.
 */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <fcntl.h>
#include <stdarg.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <unistd.h>

enum call { WRITE = 1, SYNC = 2, CREATE = 3, CUT = 4, UNLINK = 5, SYNC_FOLDER = 6 };

struct fault { volatile int32_t call, error, spared, times; };

static struct fault *fault;
static const char *folder;
static size_t folder_length;
static int record = -1;

__attribute__((constructor)) static void begin(void)
{
    const char *path = getenv("DISK_FAULT");
    folder = getenv("DISK_FOLDER");
    if (!folder)
        return;
    folder_length = strlen(folder);
    if (getenv("DISK_RECORD"))
        record = syscall(SYS_openat, AT_FDCWD, getenv("DISK_RECORD"), O_WRONLY | O_APPEND | O_CREAT | O_CLOEXEC, 0600);
    if (path) {
        int file = syscall(SYS_openat, AT_FDCWD, path, O_RDWR | O_CLOEXEC);
        void *map = file < 0 ? MAP_FAILED : mmap(NULL, sizeof *fault, PROT_READ | PROT_WRITE, MAP_SHARED, file, 0);
        fault = map == MAP_FAILED ? NULL : map;
        close(file);
    }
}

static int is_ours(const char *path)
{
    return folder && !strncmp(path, folder, folder_length);
}

/* The path of an open file; empty where it is none of ours. */
static const char *path_of(int file, char *path, size_t size)
{
    char link[40];
    ssize_t length;
    *path = 0;
    if (!folder)
        return path;
    snprintf(link, sizeof link, "/proc/self/fd/%d", file);
    length = readlink(link, path, size - 1);
    path[length < 0 ? 0 : length] = 0;
    if (!is_ours(path))
        *path = 0;
    return path;
}

static void note(enum call call, const char *path, uint64_t offset, const void *data, uint32_t size)
{
    uint32_t length = strlen(path), head[5] = {call, length, size, (uint32_t)offset, (uint32_t)(offset >> 32)};
    char *whole;
    if (record < 0)
        return;
    whole = malloc(sizeof head + length + size);
    memcpy(whole, head, sizeof head);
    memcpy(whole + sizeof head, path, length);
    if (size)
        memcpy(whole + sizeof head + length, data, size);
    syscall(SYS_write, record, whole, sizeof head + length + size);
    free(whole);
}

/* Whether this call is to fail: 1, with errno set; 2 for a short write. */
static int fails(enum call call)
{
    if (!fault || fault->call != (int32_t)call || fault->times <= 0)
        return 0;
    if (fault->spared > 0) {
        fault->spared--;
        return 0;
    }
    fault->times--;
    errno = fault->error;
    return fault->error ? 1 : 2;
}

static ssize_t written(int file, const void *data, size_t size, off_t offset, int placed)
{
    char path[4096];
    if (*path_of(file, path, sizeof path)) {
        int how = fails(WRITE);
        if (how == 1)
            return -1;
        if (how == 2 && size > 1)
            size /= 2;
        note(WRITE, path, placed ? offset : lseek(file, 0, SEEK_CUR), data, size);
    }
    return placed ? syscall(SYS_pwrite64, file, data, size, offset) : syscall(SYS_write, file, data, size);
}

ssize_t write(int file, const void *data, size_t size) { return written(file, data, size, 0, 0); }
ssize_t pwrite(int file, const void *data, size_t size, off_t offset) { return written(file, data, size, offset, 1); }
ssize_t pwrite64(int file, const void *data, size_t size, off64_t offset) { return written(file, data, size, offset, 1); }

static int synced(int file, long number)
{
    char path[4096];
    struct stat about;
    if (*path_of(file, path, sizeof path)) {
        int is_folder = !fstat(file, &about) && S_ISDIR(about.st_mode);
        if (fails(is_folder ? SYNC_FOLDER : SYNC))
            return -1;
        int result = syscall(number, file);
        if (!result)
            note(is_folder ? SYNC_FOLDER : SYNC, path, 0, NULL, 0);
        return result;
    }
    return syscall(number, file);
}

int fsync(int file) { return synced(file, SYS_fsync); }
int fdatasync(int file) { return synced(file, SYS_fdatasync); }

static int cut(int file, off_t size)
{
    char path[4096];
    if (*path_of(file, path, sizeof path)) {
        if (fails(CUT))
            return -1;
        note(CUT, path, size, NULL, 0);
    }
    return syscall(SYS_ftruncate, file, size);
}

int ftruncate(int file, off_t size) { return cut(file, size); }
int ftruncate64(int file, off64_t size) { return cut(file, size); }

static int opened(int at, const char *path, int flags, mode_t mode)
{
    if (flags & O_CREAT && is_ours(path) && syscall(SYS_faccessat, at, path, F_OK, 0)) {
        if (fails(CREATE))
            return -1;
        note(CREATE, path, 0, NULL, 0);
    }
    return syscall(SYS_openat, at, path, flags, mode);
}

#define MODE(flags) \
    mode_t mode = 0; \
    if ((flags) & (O_CREAT | O_TMPFILE)) { \
        va_list rest; \
        va_start(rest, flags); \
        mode = va_arg(rest, mode_t); \
        va_end(rest); \
    }

int open(const char *path, int flags, ...) { MODE(flags) return opened(AT_FDCWD, path, flags, mode); }
int open64(const char *path, int flags, ...) { MODE(flags) return opened(AT_FDCWD, path, flags | O_LARGEFILE, mode); }
int openat(int at, const char *path, int flags, ...) { MODE(flags) return opened(at, path, flags, mode); }
int openat64(int at, const char *path, int flags, ...) { MODE(flags) return opened(at, path, flags | O_LARGEFILE, mode); }

int unlink(const char *path)
{
    if (is_ours(path)) {
        if (fails(UNLINK))
            return -1;
        note(UNLINK, path, 0, NULL, 0);
    }
    return syscall(SYS_unlinkat, AT_FDCWD, path, 0);
}
