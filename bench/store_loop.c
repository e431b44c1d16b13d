/* What the step benchmark runs: a long loop of which more than a third of the instructions store. */
static volatile long levels[64];

void _start(void)
{
    for (long i = 0;; i++) {
        levels[i & 63] = i;
        levels[(i + 1) & 63] = i ^ 5;
        levels[2] = 7;
        levels[3] = i;
        levels[4] += i;
        levels[5] = 9;
    }
}
