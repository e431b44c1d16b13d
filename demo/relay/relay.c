/* The station sends its readings to the harbour office: a client and a server over loopback.
 *
 * usage: relay [turned]
 *   turned   planted: the client puts the port into the address as the processor has it, without htons */
#include <arpa/inet.h>
#include <netinet/in.h>
#include <stdio.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <unistd.h>

static const int levels[] = {17, 23, 42, 38, 12};

/* Sends the readings; 0, or 1 where nobody answers. */
static int station(unsigned short port, int turned) {
  struct sockaddr_in office = {.sin_family = AF_INET};
  office.sin_port = turned ? port : htons(port);
  office.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  int line = socket(AF_INET, SOCK_STREAM, 0);
  if (connect(line, (struct sockaddr *)&office, sizeof office) != 0) {
    close(line);
    return 1;
  }
  send(line, levels, sizeof levels, 0);
  shutdown(line, SHUT_WR);
  close(line);
  return 0;
}

/* Takes the readings of one station and prints their sum. */
static void office(int desk) {
  int readings[16], sum = 0;
  int line = accept(desk, NULL, NULL);
  ssize_t bytes;
  while ((bytes = recv(line, readings, sizeof readings, 0)) > 0) {
    for (ssize_t i = 0; i < bytes / (ssize_t)sizeof readings[0]; i++) sum += readings[i];
  }
  printf("sum of the readings: %d\n", sum);
  close(line);
}

int main(int count, char **words) {
  int turned = count > 1 && strcmp(words[1], "turned") == 0;
  struct sockaddr_in here = {.sin_family = AF_INET};
  here.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  socklen_t size = sizeof here;
  int desk = socket(AF_INET, SOCK_STREAM, 0);
  if (bind(desk, (struct sockaddr *)&here, sizeof here) != 0 || listen(desk, 1) != 0) return 1;
  getsockname(desk, (struct sockaddr *)&here, &size);
  pid_t child = fork();
  if (child == 0) _exit(station(ntohs(here.sin_port), turned));
  if (!turned) office(desk);
  int status = 0;
  waitpid(child, &status, 0);
  close(desk);
  if (WEXITSTATUS(status) != 0) printf("nobody answered the station\n");
  return 0;
}
