; The light at the end of the pier, for 32-bit Linux (NASM): raw system calls by int 0x80. Two mistakes are planted: the
; second write has its registers exchanged, and the exit has the number that 64-bit programs use.
        global  _start
        section .text
_start:
        mov     ebx, 1
        mov     ecx, lit
        mov     edx, lit_size
        mov     eax, 4                  ; write
        int     0x80

        mov     ebx, 1
        mov     edx, dark               ; planted: the address belongs into ecx,
        mov     ecx, dark_size          ; and the size into edx
        mov     eax, 4
        int     0x80

        mov     ebx, 0
        mov     eax, 60                 ; planted: exit is 1 by int 0x80
        int     0x80

        section .rodata
lit:    db      "Grayling Sound: light on", 10
lit_size equ    $ - lit
dark:   db      "dark until high water", 10
dark_size equ   $ - dark
