# A 32-bit program that calls code of 64 bits and comes back, and asks the kernel by each of its ways.
        .globl _start
        .text
        .code32
_start: movl $20, %eax                  # getpid
        int $0x80
        movl %eax, kept
        lcall $0x33, $wide              # the selector of 64-bit code in Linux
        addl $1, count
        movl $2, %ecx
again:  pushl %ecx
        call inner
        popl %ecx
        loop again
        movl $1, %eax                   # exit
        movl count, %ebx
        int $0x80
inner:  incl count
        ret
        .type wide, @function
        .code64
wide:   movq $0x123456789, %r8
        movq %r8, %rdx
        shrq $32, %rdx
        addl %edx, count(%rip)
        movl $39, %eax                  # getpid
        syscall
        cmpl kept(%rip), %eax
        jne 1f
        addl $16, count(%rip)
1:      lretl
        .size wide, . - wide
        .data
        .balign 4
count:  .long 0
kept:   .long 0
