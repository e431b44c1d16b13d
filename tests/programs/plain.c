/* A program without any library: what `steps` says of it can be replayed to the last byte. It does a little of
   everything that writes memory. */
typedef unsigned long word;

static unsigned char bytes[256];
static word words[32];
static volatile double levels[8];
static char names[300];

static word sum_up(const word *from, int count)
{
    return count == 0 ? 0 : from[0] + sum_up(from + 1, count - 1);
}

static word system_call(word number, word a, word b, word c)
{
    word result;
    __asm__ volatile("syscall" : "=a"(result) : "0"(number), "D"(a), "S"(b), "d"(c) : "rcx", "r11", "memory");
    return result;
}

static void strings(void)
{
    unsigned char *to = bytes;
    const unsigned char *from = (const unsigned char *)words;
    word count = 40;
    __asm__ volatile("rep stosb" : "+D"(to), "+c"(count) : "a"(0x5a) : "memory");
    to = bytes + 64;
    count = 9;
    __asm__ volatile("rep movsq" : "+D"(to), "+S"(from), "+c"(count)::"memory");
    to = bytes + 255;
    count = 5;
    __asm__ volatile("std; rep stosb; cld" : "+D"(to), "+c"(count) : "a"(0x77) : "memory");
    to = bytes;
    count = 0;
    __asm__ volatile("rep stosb" : "+D"(to), "+c"(count) : "a"(1) : "memory");
}

static void odd_ones(void)
{
    word old = 3, bit = 700, flags;
    __asm__ volatile("lock xadd %0, %1" : "+r"(old), "+m"(words[1]));
    __asm__ volatile("lock cmpxchg %2, %1" : "+a"(old), "+m"(words[2]) : "r"(99UL) : "cc");
    __asm__ volatile("bts %1, (%0)" ::"r"(words), "r"(bit) : "memory", "cc");
    bit = (word)-5;
    __asm__ volatile("btc %1, (%0)" ::"r"(words + 4), "r"(bit) : "memory", "cc");
    __asm__ volatile("pushfq; pop %0" : "=r"(flags));
    words[3] = flags;
    __asm__ volatile("push %%rbp; mov %%rsp, %%rbp; enter $32, $3; movq $7, (%%rsp); leave; pop %%rbp" ::: "memory");
    __asm__ volatile("push $-3; push $-2; popq (%%rsp); pop %0" : "=r"(old)::"memory");
    __asm__ volatile("pushw $9; popw %0" : "=m"(words[5])::"memory");
    __asm__ volatile("xchg %%ah, %0; setc %1; shld $4, %%rcx, %2" : "+m"(bytes[200]), "=m"(bytes[201]), "+m"(words[6]));
    __asm__ volatile("mov %%ss, %%eax; mov %%eax, %%ss; movl $41, %0" : "=m"(words[7])::"rax");
    __asm__ volatile("pxor %%xmm3, %%xmm3; movups %%xmm3, %0; movd %%ecx, %%xmm5; movlps %%xmm5, %1"
                     : "=m"(*(char(*)[16])(bytes + 100)), "=m"(words[8])::"xmm3", "xmm5");
}

static void floats(void)
{
    for (int i = 0; i < 8; i++)
        levels[i] = i * 1.25 + (i > 0 ? levels[i - 1] / 3 : 0);
}

static __attribute__((noinline)) void work(void)
{
    for (int i = 0; i < 32; i++)
        words[i] = (word)i * 0x0101010101010101;
    strings();
    odd_ones();
    floats();
    words[9] = sum_up(words, 9);
    system_call(63, (word)names + 5, 0, 0); /* uname */
    system_call(97, 4, (word)&words[20], 0);  /* getrlimit */
    for (int i = 0; i < 200; i++)
        bytes[i] ^= (unsigned char)(words[i % 20] >> (i % 7));
    system_call(231, bytes[17] & 63, 0, 0); /* exit_group */
}

void _start(void) { work(); }
