# unsigned log_checksum(const void *bytes, unsigned long size)
# Adds all bytes of the log and rotates the sum after each, so that their order counts.
        .text
        .globl  log_checksum
        .type   log_checksum, @function
log_checksum:
        xorl    %eax, %eax
        testq   %rsi, %rsi
        je      done
        addq    %rdi, %rsi              # the end of the log
next_byte:
        movzbl  (%rdi), %edx
        addl    %edx, %eax
        roll    $3, %eax
        incq    %rdi
        cmpq    %rsi, %rdi
        jb      next_byte
done:
        ret
        .size   log_checksum, .-log_checksum

        .section .note.GNU-stack, "", @progbits
