/* Ends by a signal, with seven other threads that wait in ways of their own, and data of all kinds. */
#include <fcntl.h>
#include <pthread.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/select.h>
#include <unistd.h>

struct reading {
  int level;
  const char *station;
  double depth;
  unsigned low : 3, high : 5;
};
struct reading readings[3] = {{1685, "Grayling Sound", 1.5, 2, 17}, {1690, "Heron Point", 2.5, 7, 1}, {-3, "", 0, 0, 0}};
static _Thread_local int of_thread = 40;
const unsigned char *chart;
float factor = 0.25f;
static pthread_mutex_t held = PTHREAD_MUTEX_INITIALIZER;
static pthread_barrier_t ready;
static pthread_cond_t never = PTHREAD_COND_INITIALIZER;
static pthread_mutex_t other = PTHREAD_MUTEX_INITIALIZER;

static void *waiter(void *argument) {
  long number = (long)argument;
  char byte;
  int pipes[2];
  of_thread += (int)number;
  pthread_barrier_wait(&ready);
  switch (number) {
    case 1: pthread_mutex_lock(&held); break;
    case 2: select(0, 0, 0, 0, 0); break;
    case 3: pause(); break;
    case 4:
      if (pipe(pipes) == 0) (void)!read(pipes[0], &byte, 1);
      break;
    case 5:
      pthread_mutex_lock(&other);
      pthread_cond_wait(&never, &other);
      break;
    default: pause(); break;
  }
  return 0;
}

static int deepest(struct reading *reading, int kind) {
  volatile double sum = reading->depth * factor;
  switch (kind) {
    case 's': *(volatile int *)8 = reading->level; break;
    case 'd': sum = reading->level / (int)(sum * 0); break;
    case 'i': __asm__ volatile("ud2"); break;
    case 'g': __asm__ volatile("push %0; ret" : : "r"((long)0x1234)); break;
    default: abort();
  }
  return (int)sum;
}

static int through(struct reading *reading, int kind, int times) {
  return times > 0 ? through(reading, kind, times - 1) + 1 : deepest(reading, kind);
}

int main(int argc, char **argv) {
  pthread_t thread;
  int file = argc > 2 ? open(argv[2], O_RDONLY) : -1;
  if (file >= 0) chart = mmap(0, 4096, PROT_READ, MAP_SHARED, file, 0);
  pthread_barrier_init(&ready, 0, 8);
  pthread_mutex_lock(&held);
  for (long i = 1; i < 8; ++i) pthread_create(&thread, 0, waiter, (void *)i);
  pthread_barrier_wait(&ready);
  usleep(100000);
  return through(readings, argc > 1 ? argv[1][0] : 'a', 3);
}
