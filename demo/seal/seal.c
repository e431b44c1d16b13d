/* The seal of Grayling Sound: before a level is reported, the routine that computes it is checked against the sum that
   was taken of its code at the start. A stop byte in that code breaks the seal; a debug register does not. */
#include <stdio.h>

enum { SEALED_BYTES = 24 };

__attribute__((noinline)) int level_above_chart(int reading, int offset)
{
    return reading * 5 / 2 - offset;
}

static unsigned seal_of(const unsigned char *code)
{
    unsigned sum = 0;

    for (int i = 0; i < SEALED_BYTES; i++)
        sum += code[i] * (2u * i + 1); /* each byte counts by its place */
    return sum;
}

int main(void)
{
    const unsigned char *code = (const unsigned char *)level_above_chart;
    const unsigned seal = seal_of(code);
    int intact = 0;

    for (int reading = 540; reading < 1140; reading += 120) {
        printf("level %d mm\n", level_above_chart(reading, 110));
        intact += seal_of(code) == seal;
    }
    printf("seal %08x, intact %d of 5 times\n", seal, intact);
    return 0;
}
