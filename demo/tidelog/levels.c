/* Reading and evaluating water levels. */
#include "tide.h"

#include <stdio.h>
#include <stdlib.h>

/* One reading a line: hour:minute level. Lines that start with # are comments. */
int log_read(struct tide_log *log, const char *path)
{
    char line[80];
    FILE *file = fopen(path, "r");

    if (file == NULL)
        return -1;
    log->count = 0;
    while (log->count < MOST_READINGS && fgets(line, sizeof line, file) != NULL) {
        int hour, minute, level;

        if (line[0] == '#' || sscanf(line, "%d:%d %d", &hour, &minute, &level) != 3)
            continue;
        log->readings[log->count].minute = hour * 60 + minute;
        log->readings[log->count].level = level;
        log->count++;
    }
    fclose(file);
    return 0;
}

long level_sum(const struct tide_log *log)
{
    long sum = 0;

    for (int i = 0; i < log->count; i++)
        sum += log->readings[i].level;
    return sum;
}

int highest_level(const struct tide_log *log)
{
    int highest = log->readings[0].level;

    for (int i = 1; i < log->count; i++)
        if (log->readings[i].level > highest)
            highest = log->readings[i].level;
    return highest;
}

static int by_level(const void *a, const void *b)
{
    const struct reading *left = a, *right = b;

    if (left->level != right->level)
        return left->level < right->level ? -1 : 1;
    return left->minute - right->minute;
}

void sort_by_level(struct tide_log *log)
{
    qsort(log->readings, log->count, sizeof log->readings[0], by_level);
}
