# Routines for ebb.c, each with a twin that has a mistake planted. Levels are signed, 16 bits each; counts are in rsi.
        .text

# long sum(const short *levels, long count)
        .type   sum, @function
sum:
        xorl    %eax, %eax
sum_next:
        movswq  -2(%rdi,%rsi,2), %rdx
        addq    %rdx, %rax
        decq    %rsi
        jnz     sum_next
        ret
        .size   sum, .-sum

# The same with the sum in rbx, which belongs to the caller.
        .type   sum_in_rbx, @function
sum_in_rbx:
        xorl    %ebx, %ebx              # planted: rbx is not saved
sum_in_rbx_next:
        movswq  -2(%rdi,%rsi,2), %rdx
        addq    %rdx, %rbx
        decq    %rsi
        jnz     sum_in_rbx_next
        movq    %rbx, %rax
        ret
        .size   sum_in_rbx, .-sum_in_rbx

# long mean_of(const short *levels, long count)
        .globl  mean_of
        .type   mean_of, @function
mean_of:
        pushq   %rbx
        movq    %rsi, %rbx              # the count, over the call
        call    sum
        cqto
        idivq   %rbx
        popq    %rbx
        ret
        .size   mean_of, .-mean_of

        .globl  mean_of_changed
        .type   mean_of_changed, @function
mean_of_changed:
        pushq   %rbx
        movq    %rsi, %rbx
        call    sum_in_rbx
        cqto
        idivq   %rbx
        popq    %rbx
        ret
        .size   mean_of_changed, .-mean_of_changed

# long fall_of(const short *levels, long count): from the first level to the lowest
        .globl  fall_of
        .type   fall_of, @function
fall_of:
        pushq   %rbx
        movq    %rdi, %rbx
        call    lowest
        movswq  %ax, %rdx
        movswq  (%rbx), %rax
        subq    %rdx, %rax
        popq    %rbx
        ret
        .size   fall_of, .-fall_of

        .globl  fall_of_wide
        .type   fall_of_wide, @function
fall_of_wide:
        pushq   %rbx
        movq    %rdi, %rbx
        call    lowest
        movslq  %eax, %rdx              # planted: the result is ax
        movswq  (%rbx), %rax
        subq    %rdx, %rax
        popq    %rbx
        ret
        .size   fall_of_wide, .-fall_of_wide

# void copy_levels(short *to, const short *from, long count)
        .globl  copy_levels
        .type   copy_levels, @function
copy_levels:
        movq    %rdx, %rcx
        rep movsw
        ret
        .size   copy_levels, .-copy_levels

        .globl  copy_one_more
        .type   copy_one_more, @function
copy_one_more:
        movw    (%rsi,%rdx,2), %ax
        movw    %ax, (%rdi,%rdx,2)
        decq    %rdx                    # planted: it counts down from the count, not from the last place
        jns     copy_one_more
        ret
        .size   copy_one_more, .-copy_one_more

# short highest(const short *levels, long count)
        .globl  highest
        .type   highest, @function
highest:
        movw    (%rdi), %ax
highest_next:
        movw    -2(%rdi,%rsi,2), %dx
        cmpw    %ax, %dx
        jle     highest_lower
        movw    %dx, %ax
highest_lower:
        decq    %rsi
        jnz     highest_next
        ret
        .size   highest, .-highest

        .globl  highest_unsigned
        .type   highest_unsigned, @function
highest_unsigned:
        movw    (%rdi), %ax
highest_unsigned_next:
        movw    -2(%rdi,%rsi,2), %dx
        cmpw    %ax, %dx
        jbe     highest_unsigned_lower  # planted: the flags of an unsigned comparison
        movw    %dx, %ax
highest_unsigned_lower:
        decq    %rsi
        jnz     highest_unsigned_next
        ret
        .size   highest_unsigned, .-highest_unsigned

# long spread(const short *levels, long count)
        .globl  spread
        .type   spread, @function
spread:
        subq    $8, %rsp
        call    difference
        addq    $8, %rsp
        ret
        .size   spread, .-spread

        .globl  spread_shifted
        .type   spread_shifted, @function
spread_shifted:
        call    difference              # planted: rsp is 8 bytes off
        ret
        .size   spread_shifted, .-spread_shifted

        .section .note.GNU-stack, "", @progbits
