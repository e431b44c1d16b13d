/* The old gauge of Grayling Sound, a 32-bit program: arguments on the stack, frames through ebp. */
#include <stdio.h>

enum phase { RISING, FALLING, SLACK };

struct mark {
  const char *name;
  short level;
  enum phase phase;
};

static const struct mark marks[] = {
    {"datum", 0, SLACK},
    {"low water", 38, RISING},
    {"quay edge", 412, RISING},
    {"flood", 455, FALLING},
};

int readings_taken;

/* Straight lines between the hours: hour and minute, and the levels at this hour and at the next one. */
int level_between(int minute, int before, int after) {
  ++readings_taken;
  return before + (after - before) * minute / 60;
}

static const char *phase_name(enum phase phase) {
  switch (phase) {
    case RISING: return "rising";
    case FALLING: return "falling";
    case SLACK: return "slack";
  }
  return "unknown";
}

const struct mark *mark_below(int level) {
  const struct mark *found = &marks[0];
  for (unsigned i = 0; i < sizeof marks / sizeof marks[0]; ++i)
    if (marks[i].level <= level) found = &marks[i];
  return found;
}

int main(void) {
  const int hours[] = {35, 190, 402, 430};
  for (int minute = 0; minute < 180; minute += 45) {
    const int hour = minute / 60;
    const int level = level_between(minute % 60, hours[hour], hours[hour + 1]);
    const struct mark *mark = mark_below(level);
    printf("%02d:%02d %d cm, above %s, %s\n", hour, minute % 60, level, mark->name, phase_name(mark->phase));
  }
  printf("%d readings\n", readings_taken);
  return 0;
}
