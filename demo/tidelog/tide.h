/* The tide log of Grayling Sound: water levels in millimetres above chart datum. */
#ifndef TIDE_H
#define TIDE_H

#define MOST_READINGS 48

struct reading {
    int minute; /* of the day */
    int level;  /* millimetres */
};

struct tide_log {
    int count;
    struct reading readings[MOST_READINGS];
};

extern int station_number;
extern const char station_name[];

int log_read(struct tide_log *log, const char *path);
long level_sum(const struct tide_log *log);
int highest_level(const struct tide_log *log);
void sort_by_level(struct tide_log *log);
unsigned log_checksum(const void *bytes, unsigned long size);

#endif
