# As wrecks.c, written by hand: without types, unwind tables or a C library. With a word it does what the word says and
# exits with 0.
        .intel_syntax noprefix
#ifdef RIGHT
#define PICK(wrong, right) right
#else
#define PICK(wrong, right) wrong
#endif

        .section .rodata
w_load: .asciz "load"
w_store: .asciz "store"
w_text: .asciz "text"
w_table: .asciz "table"
w_call: .asciz "call"
w_return: .asciz "return"
w_divide: .asciz "divide"
w_copy: .asciz "copy"
w_end: .asciz "end"
w_trap: .asciz "trap"
w_hlt: .asciz "hlt"
w_unaligned: .asciz "unaligned"
w_recursion: .asciz "recursion"
        .align 16
words:  .quad w_load, load, w_store, store, w_text, text, w_table, table, w_call, calls, w_return, returns
        .quad w_divide, divide, w_copy, copy, w_end, end, w_trap, trap, w_hlt, halted, w_unaligned, unaligned
        .quad w_recursion, recursion, 0, 0

        .data
        .align 16
levels: .long 3, 1, 2, 4
marks:  .space 64
newline: .byte 10

        .text
        .globl _start
_start:
        cmp     qword ptr [rsp], 2
        jl      list
        mov     rbx, [rsp+16]
        lea     r12, words[rip]
search:
        mov     rsi, [r12]
        test    rsi, rsi
        jz      done
        mov     rdi, rbx
compare:
        mov     al, [rdi]
        cmp     al, [rsi]
        jne     other
        test    al, al
        jz      go
        inc     rdi
        inc     rsi
        jmp     compare
other:
        add     r12, 16
        jmp     search
go:
        call    [r12+8]                 // broken_return broken_jump
done:
        xor     edi, edi
        mov     eax, 60
        syscall

list:
        lea     r12, words[rip]
next_word:
        mov     rsi, [r12]
        test    rsi, rsi
        jz      done
        xor     edx, edx
length:
        inc     rdx
        cmp     byte ptr [rsi+rdx], 0
        jne     length
        mov     edi, 1
        mov     eax, 1
        syscall
        lea     rsi, newline[rip]
        mov     edx, 1
        mov     edi, 1
        mov     eax, 1
        syscall
        add     r12, 16
        jmp     next_word

load:
        mov     rax, PICK(levels[rip], levels@GOTPCREL[rip])
        mov     eax, [rax]              // not_mapped number_as_address not_canonical half_address
        ret
store:
        mov     ebx, PICK(5, offset levels)
        mov     dword ptr [rbx], 7      // number_as_address
        ret
text:
        lea     rdi, PICK(w_load[rip], marks[rip])
        mov     byte ptr [rdi], 'L'     // read_only
        ret
table:
        mov     ecx, PICK(0x10000000, 1)
        mov     eax, levels[rcx*4]      // index_out_of_range
        ret
calls:
        mov     eax, PICK(77, offset nothing)
        call    rax                     // broken_call
        ret
nothing:
        ret
returns:
        push    PICK(9, offset nothing)
        ret                             // broken_return broken_jump
divide:
        mov     eax, 12
        cdq
        mov     ecx, PICK(0, 3)
        idiv    ecx                     // division_by_zero
        ret
copy:
        lea     rsi, levels[rip]
        lea     rdi, marks[rip]
        mov     ecx, PICK(0x1000000, 16)
        cld
        rep movsb                       // past_end not_mapped
        ret
trap:
        PICK(ud2, nop)                  // never_reached
        ret
halted:
        PICK(hlt, nop)                  // not_allowed
        ret
unaligned:
        lea     rax, levels[rip]
        movaps  xmm0, [rax+PICK(4, 0)]  // misaligned
        ret
recursion:
        mov     edi, PICK(0x7fffffff, 2)
deeper:
        push    rbx
        sub     rsp, 128
        dec     edi
        jz      back
        call    deeper                  // stack_overflow
back:
        add     rsp, 128
        pop     rbx
        ret
end:
        mov     eax, PICK(39, 60)
        xor     edi, edi
        syscall
        add     [rax], al               // not_mapped number_as_address
