; The same sluice for NASM, 64- and 32-bit.
%ifidn __OUTPUT_FORMAT__, elf64
%define BP_ rbp
%define SP_ rsp
%define CX_ rcx
%define WORD_ dq
%else
%define BP_ ebp
%define SP_ esp
%define CX_ ecx
%define WORD_ dd
%endif
	global	_start
	section	.data
upper:	db	46			; centimetres of water above the gate
lower:	db	52			; and below it
gates:	db	4
drift:	db	-3
tide:	dw	-1200
basin:	dw	1800
spring:	dw	32000
heads:	dw	3, -2, 7, 1, -9, 4
where:	WORD_	heads
banner:	db	"sluice: sixteen results", 10
banner_length equ $ - banner
	section	.bss
drop:	resw	1
rise:	resw	1
slack:	resw	1
outflow: resw	1
backflow: resw	1
half:	resw	1
twice:	resw	1
net:	resw	1
swing:	resw	1
quarter: resw	1
rest:	resw	1
low_byte: resw	1
odd:	resw	1
flipped: resw	1
wrapped: resw	1
total:	resw	1
marks:	resb	20

	section	.text
_start:
	mov	al, [upper]
	sub	al, [lower]
	cbw
	mov	[drop], ax
	movsx	ax, byte [lower]
	movsx	bx, byte [upper]
	sub	ax, bx
	mov	[rise], ax
	movsx	ax, byte [upper]
	movsx	bx, byte [drift]
	add	ax, bx
	mov	[slack], ax
	mov	al, [upper]
	mul	byte [gates]
	mov	[outflow], ax
	mov	al, [drift]
	mul	byte [gates]		; wrong on purpose: drift has a sign, so imul
	mov	[backflow], ax
	mov	ax, [tide]
	shr	ax, 1			; wrong on purpose: the tide has a sign, so sar
	mov	[half], ax
	mov	ax, [basin]
	shl	ax, 1
	mov	[twice], ax
	mov	ax, [basin]
	add	ax, [tide]
	mov	[net], ax
	mov	ax, [basin]
	sub	ax, [tide]
	mov	[swing], ax
	mov	ax, [basin]
	xor	dx, dx
	movzx	bx, byte [gates]
	div	bx
	mov	[quarter], ax
	mov	ax, [tide]
	cwd
	mov	bx, 7
	idiv	bx
	mov	[rest], dx
	mov	ax, [tide]
	and	ax, 0xff
	mov	[low_byte], ax
	mov	ax, [basin]
	or	ax, 1
	mov	[odd], ax
	movsx	ax, byte [drift]
	not	ax
	mov	[flipped], ax
	mov	ax, [spring]
	add	ax, ax
	mov	[wrapped], ax
	xor	ecx, ecx
	xor	eax, eax
next_head:
	add	ax, [heads + CX_ * 2]
	inc	ecx
	cmp	ecx, 6
	jl	next_head
	mov	[total], ax
done:
	call	report
	mov	eax, 1			; exit
	xor	ebx, ebx
	int	0x80

; Writes the banner to standard output.
report:
	push	BP_
	mov	BP_, SP_
	sub	SP_, 16
	mov	dword [BP_ - 4], banner_length
	mov	eax, 4			; write
	mov	ebx, 1
	mov	ecx, banner
	mov	edx, [BP_ - 4]
	int	0x80
	leave
	ret
