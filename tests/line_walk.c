/* A bare walker for tests/line_walk.py: executes a program instruction by instruction and writes the address and the
   stack pointer of each that lies in a range, sixteen bytes apiece. Shares no code with the product.
   usage: line_walk OUT FROM TO PROGRAM [ARGUMENTS...] */
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <sys/personality.h>
#include <sys/ptrace.h>
#include <sys/user.h>
#include <sys/wait.h>
#include <unistd.h>

int main(int argc, char** argv) {
  if (argc < 5) return 2;
  FILE* out = fopen(argv[1], "wb");
  const unsigned long from = strtoul(argv[2], NULL, 16), to = strtoul(argv[3], NULL, 16);
  const pid_t pid = fork();
  if (pid == 0) {
    personality(ADDR_NO_RANDOMIZE);
    ptrace(PTRACE_TRACEME, 0, NULL, NULL);
    execv(argv[4], argv + 4);
    _exit(127);
  }
  int status = 0;
  waitpid(pid, &status, 0);
  while (WIFSTOPPED(status)) {
    struct user_regs_struct registers;
    ptrace(PTRACE_GETREGS, pid, NULL, &registers);
    if (registers.rip >= from && registers.rip < to) {
      const unsigned long row[2] = {registers.rip, registers.rsp};
      fwrite(row, sizeof row, 1, out);
    }
    const int signal = WSTOPSIG(status) == SIGTRAP ? 0 : WSTOPSIG(status);
    ptrace(PTRACE_SINGLESTEP, pid, NULL, signal);
    waitpid(pid, &status, 0);
  }
  fclose(out);
  return WIFEXITED(status) ? WEXITSTATUS(status) : 1;
}
