// Preloaded into the program: makes the Nth call of a kind fail, fall short or be the last.
//   OPIFEX_FAULT=KIND:N:ACTION   KIND read, write, sync, rename, open; ACTION eio, enospc, eintr, short, kill, stop
// Only files below OPIFEX_FAULT_BELOW count, so that libraries and standard streams stay as they are.
#undef _FILE_OFFSET_BITS  // it would give both forms of a call one name
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <fcntl.h>
#include <limits.h>
#include <signal.h>
#include <stdarg.h>
#include <stdatomic.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/types.h>
#include <unistd.h>

enum action { none, eio, enospc, eintr, shorter, killed, stopped };

static atomic_long calls;

static enum action parse(const char* word) {
  if (!strcmp(word, "eio")) return eio;
  if (!strcmp(word, "enospc")) return enospc;
  if (!strcmp(word, "eintr")) return eintr;
  if (!strcmp(word, "short")) return shorter;
  if (!strcmp(word, "kill")) return killed;
  return !strcmp(word, "stop") ? stopped : none;
}

static int below(const char* path) {
  const char* root = getenv("OPIFEX_FAULT_BELOW");
  char full[PATH_MAX];
  if (!root) return 0;
  if (path[0] != '/') {
    if (!getcwd(full, sizeof full)) return 0;
    return !strncmp(full, root, strlen(root));
  }
  return !strncmp(path, root, strlen(root));
}

static int open_below(int fd) {
  char link[64], path[PATH_MAX];
  snprintf(link, sizeof link, "/proc/self/fd/%d", fd);
  const ssize_t n = readlink(link, path, sizeof path - 1);
  if (n <= 0) return 0;
  path[n] = 0;
  return fd > 2 && below(path);
}

// What is to happen to this call.
static enum action due(const char* kind) {
  const char* fault = getenv("OPIFEX_FAULT");
  char wanted[16], word[16];
  long number = 0;
  if (!fault || sscanf(fault, "%15[a-z]:%ld:%15[a-z]", wanted, &number, word) != 3 || strcmp(wanted, kind)) return none;
  if (atomic_fetch_add(&calls, 1) + 1 != number) return none;
  const enum action action = parse(word);
  if (action == killed) raise(SIGKILL);
  if (action == stopped) raise(SIGSTOP);
  return action;
}

static int fails(enum action action) {
  if (action != eio && action != enospc && action != eintr) return 0;
  errno = action == eio ? EIO : action == enospc ? ENOSPC : EINTR;
  return 1;
}

#define REAL(name) ((__typeof__(&name))dlsym(RTLD_NEXT, #name))

ssize_t pread64(int fd, void* to, size_t n, off64_t at) {
  const enum action action = open_below(fd) ? due("read") : none;
  if (fails(action)) return -1;
  return REAL(pread64)(fd, to, action == shorter && n > 1 ? n / 2 : n, at);
}
ssize_t pread(int fd, void* to, size_t n, off_t at) { return pread64(fd, to, n, at); }
ssize_t pwrite64(int fd, const void* from, size_t n, off64_t at) {
  const enum action action = open_below(fd) ? due("write") : none;
  if (fails(action)) return -1;
  return REAL(pwrite64)(fd, from, action == shorter && n > 1 ? n / 2 : n, at);
}
ssize_t pwrite(int fd, const void* from, size_t n, off_t at) { return pwrite64(fd, from, n, at); }
int fsync(int fd) { return open_below(fd) && fails(due("sync")) ? -1 : REAL(fsync)(fd); }
int rename(const char* from, const char* to) {
  return below(to) && fails(due("rename")) ? -1 : REAL(rename)(from, to);
}
int renameat2(int from_folder, const char* from, int to_folder, const char* to, unsigned flags) {
  return below(to) && fails(due("rename")) ? -1 : REAL(renameat2)(from_folder, from, to_folder, to, flags);
}
int unlink(const char* path) { return below(path) && fails(due("unlink")) ? -1 : REAL(unlink)(path); }
