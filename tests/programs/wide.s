# Registers beyond the integer core: floating-point stack, mmx, vectors of each width, masks. It asks the processor what
# it has, and assembles for both widths (WIDE: 64 bits).
        .globl _start
        .data
        .balign 64
bytes:  .byte 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, 16
        .byte 0x80, 0x81, 0x82, 0x83, 0x84, 0x85, 0x86, 0x87, 0x88, 0x89, 0x8a, 0x8b, 0x8c, 0x8d, 0x8e, 0x8f
        .fill 32, 1, 0x5a
half:   .double 0.5
single: .float 3.0, 0.1, -2.5, 7.0
result: .fill 64
image:  .fill 128
control: .word 0x27f, 0
rounding: .long 0x3f80
        .text
_start: call unit
        call short
        movl $7, %eax
        xorl %ecx, %ecx
        cpuid
        movl %ebx, %esi                 # bit 5: AVX2, bit 16: AVX512F
        movl $1, %eax
        cpuid
        btl $27, %ecx                   # the system uses xsave
        jnc done
        xorl %ecx, %ecx
        xgetbv
        movl %eax, %edi
        andl $6, %eax
        cmpl $6, %eax
        jne done
        btl $5, %esi
        jnc done
        call middle
        andl $0xe6, %edi
        cmpl $0xe6, %edi
        jne done
        btl $16, %esi
        jnc done
        call longest
done:   movl $1, %eax                   # exit, by the gate that both widths have
        xorl %ebx, %ebx
        int $0x80

unit:   fninit
        fldpi
        fld1
        fldl half
        fadd %st(2), %st
        fxch %st(1)
        fmulp %st, %st(2)
        fsqrt
        fldcw control
        fldz
        fdivrp %st, %st(1)              # by zero: an exception that is masked
        fstpl result
        ffree %st(0)
        fincstp
        fldln2
        fnsave image
        frstor image
        fucomip %st(0), %st
        movq bytes, %mm0
        paddb %mm0, %mm0
        movq %mm0, %mm3
        emms
        fldl2e
        fcompp
        ret

short:  movups bytes, %xmm1
        movaps %xmm1, %xmm2
        paddd %xmm1, %xmm2
        movups single, %xmm3
        mulps %xmm3, %xmm3              # inexact
        addss %xmm3, %xmm2
        ldmxcsr rounding
        cvtps2pi %xmm3, %mm5
        pxor %xmm1, %xmm1
        emms
        ret

middle: vmovdqu bytes, %ymm4
        vpaddb %ymm4, %ymm4, %ymm5
        vpaddb %xmm4, %xmm5, %xmm5      # clears the upper half
        vextracti128 $1, %ymm4, %xmm6
        vinserti128 $1, %xmm6, %ymm4, %ymm4
        movaps %xmm6, %xmm4             # keeps the upper half
        vzeroupper
        vzeroall
        ret

longest: movl $0x5a5a, %eax
        kmovw %eax, %k1
        vmovdqu32 bytes, %zmm2
        vmovdqu32 %zmm2, %zmm3 {%k1}{z}
        vpcmpud $1, %zmm2, %zmm3, %k2
        knotw %k2, %k3
        .ifdef WIDE
        vpaddd %zmm2, %zmm2, %zmm20
        vmovdqa32 %zmm20, %zmm31
        vpternlogd $0xff, %zmm17, %zmm17, %zmm17
        .endif
        vmovdqu32 %zmm3, result
        ret
