# The gauge of the golden texts: sums heights, writes a line, and ends with how many lie above the mark. Static and
# without any library, so that its addresses are the linker's own.
        .intel_syntax noprefix
        .globl  _start, level_sum, count_above

        .data
heights:
        .word   1200, 1350, -40, 2745
total:
        .long   0
mark:
        .word   1300

        .section .rodata
line:
        .ascii  "levels summed\n"
        .set    line_size, . - line

        .text
_start:
        lea     rdi, heights[rip]
        mov     esi, 4
        call    level_sum
        mov     total[rip], eax
        lea     rdi, heights[rip]
        mov     esi, 4
        call    count_above
        mov     ebx, eax
        mov     eax, 1
        mov     edi, 1
        lea     rsi, line[rip]
        mov     edx, line_size
        syscall
        mov     edi, ebx
        mov     eax, 60
        syscall

# The sum of esi heights at rdi, in eax.
level_sum:
        push    rbp
        mov     rbp, rsp
        sub     rsp, 16
        mov     dword ptr [rbp-4], 0
        xor     ecx, ecx
next_height:
        movsx   eax, word ptr [rdi+rcx*2]
        add     dword ptr [rbp-4], eax
        inc     ecx
        cmp     ecx, esi
        jl      next_height
        mov     eax, [rbp-4]
        leave
        ret

# How many of esi heights at rdi lie above the mark, in eax.
count_above:
        xor     eax, eax
        mov     dx, mark[rip]
above:
        dec     esi
        js      counted
        cmp     word ptr [rdi+rsi*2], dx
        jle     above
        inc     eax
        jmp     above
counted:
        ret
