/* Ends the process by SIGKILL at a chosen one of the calls that change a disk; loaded before libc. */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <fcntl.h>
#include <signal.h>
#include <stdarg.h>
#include <sys/stat.h>
#include <sys/types.h>
#include <unistd.h>

static long left = -1, made = 0;

/* Die at the n-th call from now on; -1 for never. */
void stop_at(long n) { left = n; made = 0; }
long calls_made(void) { return made; }

static int is_last(void) {
    made++;
    return left >= 0 && left-- == 0;
}
static void die(void) { kill(getpid(), SIGKILL); for (;;) pause(); }

#define REAL(type, name, ...) \
    static type (*real)(__VA_ARGS__); \
    if (!real) real = (type (*)(__VA_ARGS__)) dlsym(RTLD_NEXT, name);

/* A write is cut in its middle. */
ssize_t write(int f, const void *b, size_t n) {
    REAL(ssize_t, "write", int, const void *, size_t)
    if (is_last()) { real(f, b, n / 2); die(); }
    return real(f, b, n);
}
ssize_t pwrite(int f, const void *b, size_t n, off_t o) {
    REAL(ssize_t, "pwrite", int, const void *, size_t, off_t)
    if (is_last()) { real(f, b, n / 2, o); die(); }
    return real(f, b, n, o);
}
ssize_t pwrite64(int f, const void *b, size_t n, off64_t o) {
    REAL(ssize_t, "pwrite64", int, const void *, size_t, off64_t)
    if (is_last()) { real(f, b, n / 2, o); die(); }
    return real(f, b, n, o);
}

#define STOPS(type, name, parameters, arguments) \
    type name parameters { \
        REAL(type, #name, PARAMETERS) \
        if (is_last()) die(); \
        return real arguments; \
    }
#undef REAL
#define REAL(type, name, ...) \
    static type (*real)(); \
    if (!real) real = (type (*)()) dlsym(RTLD_NEXT, name);

STOPS(int, rename, (const char *a, const char *b), (a, b))
STOPS(int, renameat, (int f, const char *a, int g, const char *b), (f, a, g, b))
STOPS(int, link, (const char *a, const char *b), (a, b))
STOPS(int, linkat, (int f, const char *a, int g, const char *b, int h), (f, a, g, b, h))
STOPS(int, unlink, (const char *a), (a))
STOPS(int, unlinkat, (int f, const char *a, int g), (f, a, g))
STOPS(int, fsync, (int f), (f))
STOPS(int, fdatasync, (int f), (f))
STOPS(int, ftruncate, (int f, off_t n), (f, n))
STOPS(int, ftruncate64, (int f, off64_t n), (f, n))
STOPS(int, mkdir, (const char *a, mode_t m), (a, m))
STOPS(int, chmod, (const char *a, mode_t m), (a, m))

static int opened(const char *name, const char *path, int flags, mode_t mode) {
    int (*real)(const char *, int, ...) = (int (*)(const char *, int, ...)) dlsym(RTLD_NEXT, name);
    if ((flags & (O_CREAT | O_TRUNC)) && is_last()) die();
    return real(path, flags, mode);
}
#define MODE va_list rest; va_start(rest, flags); mode_t mode = va_arg(rest, int); va_end(rest);
int open(const char *path, int flags, ...) { MODE return opened("open", path, flags, mode); }
int open64(const char *path, int flags, ...) { MODE return opened("open64", path, flags, mode); }
