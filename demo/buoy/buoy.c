/* The buoy of Grayling Sound: a simulated transmitter whose registers lie in one page of memory. Shows bit fields, and
   writes to a device that are hard to see otherwise. */
#include <stdint.h>
#include <stdio.h>
#include <string.h>

struct control {
  uint32_t enabled : 1;
  uint32_t channel : 4;
  uint32_t power : 3;
  uint32_t urgent : 1;
  uint32_t : 7;
  uint32_t interval : 16; /* seconds */
};

struct status {
  uint8_t ready : 1;
  uint8_t sending : 1;
  uint8_t overheated : 1;
  uint8_t battery : 5; /* in thirty-seconds of full */
};

struct transmitter {
  struct control control;
  struct status status;
  uint8_t length;
  uint16_t checksum;
  char message[24];
};

union page {
  struct transmitter device;
  uint8_t bytes[4096];
};

_Alignas(4096) union page page;

static uint16_t checksum_of(const char *text, unsigned length) {
  uint16_t sum = 0x5a5a;
  for (unsigned i = 0; i < length; ++i) sum = (uint16_t)((sum << 1 | sum >> 15) ^ (unsigned char)text[i]);
  return sum;
}

static void send_message(volatile struct transmitter *device, const char *text) {
  const unsigned length = (unsigned)strlen(text);
  device->length = (uint8_t)length;
  for (unsigned i = 0; i < length; ++i) device->message[i] = text[i];
  device->checksum = checksum_of(text, length);
  device->status.sending = 1;
  device->status.battery--;
  device->status.sending = 0;
}

int main(void) {
  volatile struct transmitter *device = &page.device;
  device->status.battery = 31;
  device->status.ready = 1;
  device->control.channel = 9;
  device->control.power = 5;
  device->control.interval = 600;
  device->control.enabled = 1;
  send_message(device, "level 143");
  device->control.urgent = 1;
  send_message(device, "level 455 flood");
  printf("battery %u/32, checksum %04x\n", device->status.battery, device->checksum);
  return 0;
}
