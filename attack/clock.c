/* Preloaded into every process of a service under attack: the clock of the day, moved by as many seconds as the file named
   in ATTACK_CLOCK holds (one 64-bit number, which may change at any moment). Other clocks go on as they are. */
#define _GNU_SOURCE
#include <fcntl.h>
#include <stdint.h>
#include <stdlib.h>
#include <sys/mman.h>
#include <sys/syscall.h>
#include <sys/time.h>
#include <time.h>
#include <unistd.h>

static volatile int64_t nothing = 0;
static volatile int64_t *moved_by = &nothing;

__attribute__((constructor)) static void open_clock(void) {
  const char *path = getenv("ATTACK_CLOCK");
  int file = path ? open(path, O_RDONLY | O_CLOEXEC) : -1;
  if (file < 0) return;
  void *page = mmap(NULL, sizeof(int64_t), PROT_READ, MAP_SHARED, file, 0);
  if (page != MAP_FAILED) moved_by = page;
  close(file);
}

int clock_gettime(clockid_t clock, struct timespec *out) {
  int result = (int)syscall(SYS_clock_gettime, clock, out);
  if (result == 0 && (clock == CLOCK_REALTIME || clock == CLOCK_REALTIME_COARSE)) out->tv_sec += *moved_by;
  return result;
}

int gettimeofday(struct timeval *restrict out, void *restrict zone) {
  struct timespec now;
  (void)zone;
  clock_gettime(CLOCK_REALTIME, &now);
  out->tv_sec = now.tv_sec;
  out->tv_usec = now.tv_nsec / 1000;
  return 0;
}

time_t time(time_t *out) {
  struct timespec now;
  clock_gettime(CLOCK_REALTIME, &now);
  if (out) *out = now.tv_sec;
  return now.tv_sec;
}
