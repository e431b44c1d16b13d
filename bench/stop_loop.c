/* Passes a place many times, for bench/stops_rate: argv[1] times. */
#include <stdlib.h>

volatile long marks;

__attribute__((noinline)) void mark(long n)
{
    marks = n;
}

/* Its first instruction has no executable meaning of ours. */
__attribute__((noinline)) double spread(double level)
{
    __asm__ volatile("sqrtsd %0, %0" : "+x"(level));
    return level;
}

int main(int argc, char **argv)
{
    const long times = argc > 1 ? atol(argv[1]) : 1000;
    double level = 3;

    for (long i = 0; i < times; i++) {
        mark(i);
        level = spread(level);
    }
    return level > 3;
}
