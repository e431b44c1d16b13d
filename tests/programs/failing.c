/* Ends badly in the way that its argument names. */
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

static int store(int *place) { return *place = 5; }

static int divide(int by) { return 100 / by; }

int main(int argc, char **argv)
{
    const char *way = argc > 1 ? argv[1] : "";
    volatile long count = 0;

    if (strcmp(way, "null") == 0)
        return store(NULL);
    if (strcmp(way, "wild") == 0)
        return store((int *)0x8000000000001234);
    if (strcmp(way, "divide") == 0)
        return divide(argc - 2);
    if (strcmp(way, "trap") == 0)
        __asm__ volatile("int3");
    if (strcmp(way, "abort") == 0)
        abort();
    if (strcmp(way, "spin") == 0)
        for (;;)
            count++;
    return 0;
}
