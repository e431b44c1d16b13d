/* One cause of a crash a function. The line that `fault` has to name carries a comment with the kind that it has to find
 * first; several kinds where compilers decide. With -DRIGHT the same without the mistake. */
#define _GNU_SOURCE
#include <assert.h>
#include <fcntl.h>
#include <fenv.h>
#include <linux/audit.h>
#include <linux/filter.h>
#include <linux/seccomp.h>
#include <signal.h>
#include <stddef.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/prctl.h>
#include <sys/syscall.h>
#include <unistd.h>

#ifdef RIGHT
#define PICK(wrong, right) (right)
#else
#define PICK(wrong, right) (wrong)
#endif

struct mark {
  int number;
  struct mark *next;
};

static char room[64];
static struct mark first = {1, NULL};
static void *none;
static struct mark *volatile chosen;

static void copy_to_nowhere(void) {
  strcpy(PICK(none, room), "low water");  // bad_argument
}
static void length_of_number(void) {
  printf("%d\n", (int)strlen((const char *)PICK((intptr_t)77, (intptr_t)room)));  // bad_argument
}
static void copy_too_much(void) {
  memcpy(room, room + 8, PICK((size_t)1 << 28, 8));  // bad_argument
}
static void fill_too_much(void) {
  memset(room, 0, PICK((size_t)1 << 28, 8));  // bad_argument
}
static void text_from_number(void) {
  printf("%s\n", (const char *)PICK((intptr_t)5, (intptr_t) "five"));  // bad_argument
}
static void swapped(void) {
  const char *name = "pier";
  int depth = 1200;
  printf("%d %s\n", PICK((int)(intptr_t)name, depth), PICK((const char *)(intptr_t)depth, name));  // bad_argument
}
static void no_stream(void) {
  FILE *log = fopen(PICK("/nowhere/at/all", "/dev/null"), "w");
  fputs("low water\n", log);  // bad_argument null_pointer
}
static void no_stream_to_close(void) {
  fclose(PICK((FILE *)none, fopen("/dev/null", "r")));  // bad_argument
}
static int by_number(const void *a, const void *b) { return *(const int *)a - *(const int *)b; }
static void no_comparison(void) {
  int levels[] = {3, 1, 2};
  qsort(levels, 3, sizeof levels[0], PICK((int (*)(const void *, const void *))none, by_number));  // bad_argument
}
static void number_of_nothing(void) {
  printf("%d\n", atoi(PICK((const char *)none, "12")));  // bad_argument
}
static void line_of_number(void) {
  puts((const char *)PICK((intptr_t)1, (intptr_t) "one"));  // bad_argument
}
static void fill_constant(void) {
  memset(PICK((char *)"grayling", room), 'x', 3);  // bad_argument
}
static void copy_from_nowhere(void) {
  memcpy(room, PICK(none, (void *)"low"), 4);  // bad_argument
}
static void compare_with_nothing(void) {
  printf("%d\n", strcmp(PICK((const char *)none, "pier"), "pier"));  // bad_argument
}
static void scan_to_number(void) {
  int depth = 0;
  sscanf("12", "%d", PICK((int *)(intptr_t)depth, &depth));  // bad_argument
}
static void member_of_nothing(void) {
  chosen = PICK((struct mark *)none, &first);
  printf("%d\n", chosen->number);  // null_pointer
}
static void member_by_parameter_of(struct mark *mark) {
  mark->number = 3;  // null_pointer
}
static void member_by_parameter(void) { member_by_parameter_of(PICK((struct mark *)none, &first)); }
static __attribute__((noinline)) struct mark *found(int number) { return number == 1 ? &first : NULL; }
static void result_not_checked(void) {
  printf("%d\n", found(PICK(2, 1))->number);  // unchecked_result
}
static void number_as_address(void) {
  chosen = PICK((struct mark *)(intptr_t)1200, &first);
  printf("%d\n", chosen->number);  // number_as_address
}
static void negative_as_address(void) {
  chosen = PICK((struct mark *)(intptr_t)-1, &first);
  printf("%p\n", (void *)chosen->next);  // number_as_address
}
static void text_as_address(void) {
  struct mark *mark = &first;
  memcpy(&mark, PICK("low water", (char *)&mark), sizeof mark);
  printf("%d\n", mark->number);  // text_as_address
}
static void fill_pattern(void) {
  struct mark *mark = &first;
  if (PICK(1, 0)) memset(&mark, 0xcd, sizeof mark);
  printf("%d\n", mark->number);  // fill_pattern
}
static void far_index(void) {
  volatile int place = PICK(1 << 27, 1);
  static int levels[4];
  printf("%d\n", levels[place]);  // index_out_of_range
}
static void far_index_of_heap(void) {
  volatile long place = PICK(-(1 << 27), 1);
  int *levels = malloc(16);
  levels[place] = 1;  // index_out_of_range not_mapped
}
static void constant(void) {
  char *name = PICK((char *)"grayling", room);
  *name = 'G';  // read_only
}
static void forbidden(void) {
  char *page = mmap(NULL, 4096, PICK(PROT_NONE, PROT_READ), MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
  printf("%d\n", *page);  // guard_page
}
static void protected_page(void) {
  char *page = mmap(NULL, 4096, PICK(PROT_READ, PROT_READ | PROT_WRITE), MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
  *page = 1;  // read_only
}
static void past_end(void) {
  char *pages = mmap(NULL, 3 * 4096, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
  munmap(pages + 4096, 4096);
  char *at = pages + PICK(4096, 4095);
  *at = 1;  // past_end
}
static void past_file(void) {
  int file = open("/tmp", O_TMPFILE | O_RDWR, 0600);
  if (ftruncate(file, PICK(0, 4096)) != 0) return;
  char *page = mmap(NULL, 4096, PROT_READ | PROT_WRITE, MAP_SHARED, file, 0);
  *page = 1;  // past_file
}
static void divide(void) {
  volatile unsigned count = PICK(0, 3);
  printf("%u\n", 12 % count);  // division_by_zero
}
static int mean_of(int sum, int count) {
  return sum / count;  // division_by_zero never_reached
}
static void divide_by_parameter(void) { printf("%d\n", mean_of(7, PICK(0, 2))); }  // never_reached
static void divide_too_large(void) {
  volatile int level = INT32_MIN, step = PICK(-1, 1);
  printf("%d\n", level / step);  // division_overflow
}
static void call_nothing(void) {
  void (*volatile report)(void) = PICK((void (*)(void))none, divide_by_parameter);
  if (PICK(1, 0)) report();  // null_call broken_jump
}
static void call_number(void) {
  void (*volatile report)(void) = PICK((void (*)(void))(intptr_t)0x1234, divide_by_parameter);
  if (PICK(1, 0)) report();  // broken_call broken_jump
}
static void call_data(void) {
  void (*volatile report)(void) = PICK((void (*)(void))(intptr_t)room, divide_by_parameter);
  if (PICK(1, 0)) report();  // data_executed
}
static int even(volatile int depth);
static __attribute__((noinline)) int odd(volatile int depth) {  // stack_overflow
  return depth == -1 ? 1 : even(depth + 1) + 1;  // stack_overflow
}
static __attribute__((noinline)) int even(volatile int depth) {  // stack_overflow
  volatile char line[96];
  line[0] = 1;
  return depth == -1 ? 0 : odd(depth + 1) + line[0];  // stack_overflow
}
static void recursion(void) { printf("%d\n", even(PICK(1, -1))); }
static __attribute__((noinline)) void large_frame(void) {  // stack_overflow
  volatile char chart[PICK(256 << 20, 256)];  // stack_overflow
  chart[0] = 1;  // stack_overflow
}
static void sent(void) {
  if (PICK(1, 0)) kill(getpid(), SIGTERM);  // sent
}
static void gave_up(void) {
  if (PICK(1, 0)) abort();  // abort
}
static void asserted(void) {
  volatile int depth = PICK(-1, 1);
  assert(depth > 0);  // assertion
}
static void trapped(void) {
  if (PICK(1, 0)) __builtin_trap();  // never_reached
}
static void breakpoint(void) {
  if (PICK(1, 0)) __asm__ volatile("int3");  // trap_instruction
}
static void not_allowed(void) {
  if (PICK(1, 0)) __asm__ volatile("hlt");  // not_allowed
}
static void no_instruction(void) {
  if (PICK(1, 0)) __asm__ volatile("nop\n\t.byte 0x0f, 0x04");  // no_instruction
}
static void misaligned(void) {
  static char area[32] __attribute__((aligned(16)));
  char *at = area + PICK(1, 0);
  __asm__ volatile("movaps %%xmm0, (%0)" : : "r"(at) : "memory");  // misaligned
}
static void twice(void) {
  void *mark = malloc(40);
  free(mark);
  if (PICK(1, 0)) free(mark);  // double_free
}
static void not_from_malloc(void) {
  int local[8] = {0};
  free(PICK((void *)(local + 2), malloc(3)));  // invalid_free
}
static void freed(void) {
  struct mark *mark = malloc(sizeof *mark), *other = malloc(sizeof *mark);
  mark->next = other;
  free(other);
  if (PICK(1, 0)) free(mark);
  if (PICK(1, 0)) {
    mark = malloc(sizeof *mark);
    memset(mark, 0x5a, sizeof *mark);
    free(mark);
    printf("%d\n", ((struct mark *)*(void **)mark)->number);  // used_after_free null_pointer number_as_address
  }
}
static __attribute__((noinline)) void label(const char *name) {
  char text[8];
  strcpy(text, name);
  puts(text);
}  // stack_protector
static void protector(void) { label(PICK("a name that is much too long for the place", "pier")); }
static void damaged_heap(void) {
  char *mark = malloc(24);
  memset(mark, 'x', PICK(40, 24));
  char *other = malloc(5000);  // allocator
  printf("%p\n", (void *)other);
}
static void refused(void) {
  struct sock_filter rules[] = {
      BPF_STMT(BPF_LD | BPF_W | BPF_ABS, offsetof(struct seccomp_data, nr)),
      BPF_JUMP(BPF_JMP | BPF_JEQ | BPF_K, SYS_getppid, 0, 1),
      BPF_STMT(BPF_RET | BPF_K, PICK(SECCOMP_RET_TRAP, SECCOMP_RET_ALLOW)),
      BPF_STMT(BPF_RET | BPF_K, SECCOMP_RET_ALLOW),
  };
  struct sock_fprog filter = {4, rules};
  prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0);
  prctl(PR_SET_SECCOMP, SECCOMP_MODE_FILTER, &filter);
  printf("%d\n", (int)syscall(SYS_getppid) > 0);  // refused_system_call
}
static void floating(void) {
  feenableexcept(FE_DIVBYZERO);
  volatile double sum = 3, count = PICK(0, 2);
  volatile double mean = sum / count;  // floating_point
  printf("%g\n", mean + 1);
}
static void on_signal(int number) {
  chosen = PICK((struct mark *)none, &first);
  chosen->number = number;  // null_pointer
}
static void in_handler(void) {
  signal(SIGUSR1, on_signal);
  raise(SIGUSR1);
}
static int by_broken_pointer(const void *a, const void *b) {
  (void)a;
  (void)b;
  return *PICK((int *)none, &first.number);  // null_pointer
}
static void in_callback(void) {
  int levels[] = {3, 1, 2};
  qsort(levels, 3, sizeof levels[0], by_broken_pointer);
}

struct way {
  const char *word;
  void (*go)(void);
};
#define WAY(name) {#name, name}
static const struct way ways[] = {
    WAY(copy_to_nowhere), WAY(length_of_number), WAY(copy_too_much), WAY(fill_too_much), WAY(text_from_number),
    WAY(swapped), WAY(no_stream), WAY(no_stream_to_close), WAY(no_comparison), WAY(number_of_nothing),
    WAY(line_of_number), WAY(fill_constant), WAY(copy_from_nowhere), WAY(compare_with_nothing), WAY(scan_to_number),
    WAY(member_of_nothing), WAY(member_by_parameter), WAY(result_not_checked), WAY(number_as_address),
    WAY(negative_as_address), WAY(text_as_address), WAY(fill_pattern), WAY(far_index), WAY(far_index_of_heap),
    WAY(constant), WAY(forbidden), WAY(protected_page), WAY(past_end), WAY(past_file), WAY(divide),
    WAY(divide_by_parameter), WAY(divide_too_large), WAY(call_nothing), WAY(call_number), WAY(call_data),
    WAY(recursion), WAY(large_frame), WAY(sent), WAY(gave_up), WAY(asserted), WAY(trapped), WAY(breakpoint),
    WAY(not_allowed), WAY(no_instruction), WAY(misaligned), WAY(twice), WAY(not_from_malloc), WAY(freed),
    WAY(protector), WAY(damaged_heap), WAY(refused), WAY(floating), WAY(in_handler), WAY(in_callback),
};

int main(int argc, char **argv) {
  for (size_t i = 0; i < sizeof ways / sizeof ways[0]; ++i) {
    if (argc > 1 && strcmp(argv[1], ways[i].word) == 0) {
      ways[i].go();
      return 0;
    }
    if (argc == 1) puts(ways[i].word);
  }
  return argc > 1;
}
