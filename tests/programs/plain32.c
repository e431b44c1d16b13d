/* As plain.c for 32-bit programs: what `steps` says of it can be replayed to the last byte. */
static unsigned char bytes[256];
static unsigned words[32];
static volatile double levels[4];
static char names[300];

static unsigned sum_up(const unsigned *from, int count)
{
    return count == 0 ? 0 : from[0] + sum_up(from + 1, count - 1);
}

__attribute__((regparm(3))) static unsigned system_call(unsigned number, unsigned a, void *b, unsigned c)
{
    unsigned result;
    __asm__ volatile("int $0x80" : "=a"(result) : "0"(number), "b"(a), "c"(b), "d"(c) : "memory");
    return result;
}

/* Takes its arguments off the stack itself. */
__attribute__((stdcall, noinline)) static int difference(int a, int b)
{
    words[9] += 1;
    return a - b;
}

static void strings(void)
{
    unsigned char *to = bytes;
    const unsigned char *from = (const unsigned char *)words;
    unsigned count = 40;
    __asm__ volatile("rep stosb" : "+D"(to), "+c"(count) : "a"(0x5a) : "memory");
    to = bytes + 64;
    count = 9;
    __asm__ volatile("rep movsl" : "+D"(to), "+S"(from), "+c"(count)::"memory");
    to = bytes + 255;
    count = 5;
    __asm__ volatile("std; rep stosb; cld" : "+D"(to), "+c"(count) : "a"(0x77) : "memory");
}

static void odd_ones(void)
{
    unsigned old = 3, bit = 700, flags;
    __asm__ volatile("lock xadd %0, %1" : "+r"(old), "+m"(words[1]));
    __asm__ volatile("bts %1, (%0)" ::"r"(words), "r"(bit) : "memory", "cc");
    __asm__ volatile("pushfl; pop %0" : "=r"(flags));
    words[3] = flags;
    __asm__ volatile("pusha; incl %0; popa" : "+m"(words[10])::"memory");
    __asm__ volatile("push %%ebp; mov %%esp, %%ebp; enter $32, $3; movl $7, (%%esp); leave; pop %%ebp" ::: "memory");
    __asm__ volatile("push $-3; push $-2; popl (%%esp); pop %0" : "=r"(old)::"memory");
    __asm__ volatile("pushw $9; popw %0" : "=m"(words[5])::"memory");
    __asm__ volatile("mov %%ss, %%eax; mov %%eax, %%ss; movl $41, %0" : "=m"(words[7])::"eax");
    __asm__ volatile("mov $200, %%al; aam; movw %%ax, %0; daa; aaa" : "=m"(words[11])::"eax", "cc");
    __asm__ volatile("push %%ds; push %%es; pop %%es; pop %%ds; bound %%eax, %0" ::"m"(*(const int(*)[2])"\0\0\0\0\377\377\377\177"), "a"(5) : "memory");
}

static void floats(void)
{
    for (int i = 0; i < 4; i++)
        levels[i] = i * 1.5;
    __asm__ volatile("pxor %%xmm3, %%xmm3; movups %%xmm3, %0; movd %%ecx, %%xmm5; movlps %%xmm5, %1"
                     : "=m"(*(char(*)[16])(bytes + 100)), "=m"(words[12])::"xmm3", "xmm5");
}

int work(void)
{
    for (unsigned i = 0; i < 32; i++)
        words[i] = i * 0x01010101;
    words[20] = sum_up(words, 12);
    strings();
    odd_ones();
    floats();
    words[21] = difference(9, 4) + difference(2, 7);
    system_call(122, (unsigned)names, 0, 0); /* uname */
    long long wide = (long long)words[20] * words[21];
    words[22] = (unsigned)(wide >> 16);
    return (int)words[22] & 0x3f;
}

__attribute__((naked)) void _start(void)
{
    __asm__ volatile("call work; mov %eax, %ebx; mov $1, %eax; int $0x80");
}
