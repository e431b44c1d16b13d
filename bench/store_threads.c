/* What the step benchmark runs with eight threads: each stores into memory of its own. */
#include <pthread.h>

static volatile long levels[8][64];

void *work(void *number)
{
    volatile long *own = levels[(long)number];
    for (long i = 0;; i++) {
        own[i & 63] = i;
        own[(i + 1) & 63] = i ^ 5;
        own[2] = 7;
        own[4] += i;
    }
}

int main(void)
{
    pthread_t thread;
    for (long i = 1; i < 8; i++)
        pthread_create(&thread, 0, work, (void *)i);
    work(0);
}
