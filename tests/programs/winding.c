/* Control that comes and goes by every way: callbacks, signals, longjmp, exit handlers, a forked child, output. */
#define _GNU_SOURCE
#include <sched.h>
#include <setjmp.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

static volatile int alarms;
static jmp_buf back;
static int order[6] = {4, 2, 6, 3, 1, 5};

static void on_signal(int number) { alarms += number; }

static int compare(const void *a, const void *b) { return *(const int *)a - *(const int *)b; }

static void at_end(void)
{
    printf("alarms %d\n", alarms);
    fflush(stdout);
}

static void dive(int depth)
{
    if (depth == 0)
        longjmp(back, 5);
    dive(depth - 1);
}

int main(int argc, char **argv)
{
    int child, status = 0, jumped;

    atexit(at_end);
    signal(SIGUSR1, on_signal);
    raise(SIGUSR1);
    kill(getpid(), SIGUSR1);
    qsort(order, 6, sizeof order[0], compare);
    jumped = setjmp(back);
    if (jumped == 0)
        dive(3);
    child = fork();
    if (child == 0) {
        qsort(order, 6, sizeof order[0], compare);
        _exit(order[0] + 10);
    }
    waitpid(child, &status, 0);
    if (argc > 1)
        printf("%s: ", argv[1]);
    printf("%d..%d jumped %d child %d\n", order[0], order[5], jumped, WEXITSTATUS(status));
    /* Which processors there are is the program's own business, by the library and by a system call of its own. */
    cpu_set_t first, second;
    long size;
    CPU_ZERO(&first);
    CPU_ZERO(&second);
    sched_getaffinity(0, sizeof first, &first);
#ifdef __x86_64__
    __asm__ volatile("syscall" : "=a"(size) : "0"(204), "D"(0), "S"(sizeof second), "d"(&second) : "rcx", "r11", "memory");
#else
    __asm__ volatile("int $0x80" : "=a"(size) : "0"(242), "b"(0), "c"(sizeof second), "d"(&second) : "memory");
#endif
    printf("processors %d %d\n", CPU_COUNT(&first), CPU_COUNT(&second));
    if (system("true") != 0)
        return 1;
    return 7;
}
