/* How far the water falls: readings of an ebb, worked out by routines in assembly (fall.s). A word plants a mistake:
 *   kept     a routine changes a register that it has to give back, and the mean is wrong
 *   align    a routine calls another with the stack 8 bytes off, which stores 16 aligned bytes there
 *   narrow   a routine takes 32 bits of a result that has 16: the lowest level is not below zero any more
 *   field    a routine copies one reading too many, over the field that follows
 *   sign     a routine compares levels as if they had no sign: the highest one is below zero
 * Without a word all is well. */
#include <stdio.h>
#include <string.h>

enum { READINGS = 5 };

struct ebb {
  short levels[READINGS]; /* centimetres */
  short alarm;            /* level that rings the bell */
};

static struct ebb today = {{0}, 250};
static const short readings[READINGS + 1] = {212, 130, 41, -37, -6, 77};

long mean_of(const short *levels, long count);
long mean_of_changed(const short *levels, long count);
long fall_of(const short *levels, long count);
long fall_of_wide(const short *levels, long count);
void copy_levels(short *to, const short *from, long count);
void copy_one_more(short *to, const short *from, long count);
short highest(const short *levels, long count);
short highest_unsigned(const short *levels, long count);
long spread(const short *levels, long count);
long spread_shifted(const short *levels, long count);

/* The lowest of them; called from assembly. */
short lowest(const short *levels, long count) {
  short least = levels[0];
  for (long i = 1; i < count; ++i) {
    if (levels[i] < least) least = levels[i];
  }
  return least;
}

/* Called from assembly; fills 16 bytes of its frame at once. */
long difference(const short *levels, long count) {
  typedef long pair __attribute__((vector_size(16)));
  volatile pair ends = {levels[0], levels[count - 1]};
  return ends[0] - ends[1];
}

int main(int count, char **words) {
  const char *mistake = count > 1 ? words[1] : "";
  if (strcmp(mistake, "field") == 0)
    copy_one_more(today.levels, readings, READINGS);
  else
    copy_levels(today.levels, readings, READINGS);
  printf("mean    %ld\n", strcmp(mistake, "kept") == 0 ? mean_of_changed(today.levels, READINGS)
                                                       : mean_of(today.levels, READINGS));
  printf("fall    %ld\n", strcmp(mistake, "narrow") == 0 ? fall_of_wide(today.levels, READINGS)
                                                         : fall_of(today.levels, READINGS));
  printf("highest %d\n", strcmp(mistake, "sign") == 0 ? highest_unsigned(today.levels, READINGS)
                                                      : highest(today.levels, READINGS));
  printf("alarm   %d\n", today.alarm);
  fflush(stdout);
  printf("spread  %ld\n", strcmp(mistake, "align") == 0 ? spread_shifted(today.levels, READINGS)
                                                        : spread(today.levels, READINGS));
  return 0;
}
