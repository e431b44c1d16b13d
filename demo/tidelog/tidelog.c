/* tidelog FILE: reads a day's water levels and prints their sum, mean, highest and median. */
#include "tide.h"

#include <stdio.h>

int station_number = 17;
const char station_name[] = "Grayling Sound";

static void print_summary(struct tide_log *log)
{
    long sum = level_sum(log);
    int highest = highest_level(log);
    unsigned check = log_checksum(log->readings, log->count * sizeof log->readings[0]);

    printf("station %d, %s: %d readings\n", station_number, station_name, log->count);
    printf("sum %ld mm, mean %ld mm, highest %d mm\n", sum, sum / log->count, highest);
    sort_by_level(log);
    printf("median %d mm, checksum %08x\n", log->readings[log->count / 2].level, check);
}

int main(int argc, char **argv)
{
    static struct tide_log log;
    const char *path = argc > 1 ? argv[1] : "readings.txt";

    if (log_read(&log, path) != 0) {
        fprintf(stderr, "tidelog: cannot read %s\n", path);
        return 2;
    }
    if (log.count == 0) {
        puts("no readings");
        return 1;
    }
    print_summary(&log);
    return 0;
}
