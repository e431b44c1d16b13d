# The sluice of the Grayling Sound tide station: sixteen results of 16 bits each, written by hand for GNU as, 64- and
# 32-bit. Its variables have neither types nor sizes. Two results are wrong on purpose; sluice.plan finds them.
#ifdef __x86_64__
#define BP rbp
#define SP rsp
#define CX rcx
#define WORD .quad
#else
#define BP ebp
#define SP esp
#define CX ecx
#define WORD .long
#endif
	.globl	_start
	.data
upper:	.byte	46			# centimetres of water above the gate
lower:	.byte	52			# and below it
gates:	.byte	4
drift:	.byte	-3
tide:	.short	-1200
basin:	.short	1800
spring:	.short	32000
heads:	.short	3, -2, 7, 1, -9, 4
where:	WORD	heads
banner:	.ascii	"sluice: sixteen results\n"
	.set	banner_length, . - banner
	.bss
drop:	.skip	2
rise:	.skip	2
slack:	.skip	2
outflow:	.skip	2
backflow:	.skip	2
half:	.skip	2
twice:	.skip	2
net:	.skip	2
swing:	.skip	2
quarter:	.skip	2
rest:	.skip	2
low_byte:	.skip	2
odd:	.skip	2
flipped:	.skip	2
wrapped:	.skip	2
total:	.skip	2
marks:	.skip	20

	.text
_start:
	mov	upper, %al
	sub	lower, %al
	cbw
	mov	%ax, drop
	movsbw	lower, %ax
	movsbw	upper, %bx
	sub	%bx, %ax
	mov	%ax, rise
	movsbw	upper, %ax
	movsbw	drift, %bx
	add	%bx, %ax
	mov	%ax, slack
	mov	upper, %al
	mulb	gates
	mov	%ax, outflow
	mov	drift, %al
	mulb	gates			# wrong on purpose: drift has a sign, so imul
	mov	%ax, backflow
	mov	tide, %ax
	shr	$1, %ax			# wrong on purpose: the tide has a sign, so sar
	mov	%ax, half
	mov	basin, %ax
	shl	$1, %ax
	mov	%ax, twice
	mov	basin, %ax
	add	tide, %ax
	mov	%ax, net
	mov	basin, %ax
	sub	tide, %ax
	mov	%ax, swing
	mov	basin, %ax
	xor	%dx, %dx
	movzbw	gates, %bx
	div	%bx
	mov	%ax, quarter
	mov	tide, %ax
	cwd
	mov	$7, %bx
	idiv	%bx
	mov	%dx, rest
	mov	tide, %ax
	and	$0xff, %ax
	mov	%ax, low_byte
	mov	basin, %ax
	or	$1, %ax
	mov	%ax, odd
	movsbw	drift, %ax
	not	%ax
	mov	%ax, flipped
	mov	spring, %ax
	add	%ax, %ax
	mov	%ax, wrapped
	xor	%ecx, %ecx
	xor	%eax, %eax
next_head:
	add	heads(,%CX,2), %ax
	inc	%ecx
	cmp	$6, %ecx
	jl	next_head
	mov	%ax, total
done:
	call	report
	mov	$1, %eax		# exit
	xor	%ebx, %ebx
	int	$0x80

# Writes the banner to standard output.
report:
	push	%BP
	mov	%SP, %BP
	sub	$16, %SP
	movl	$banner_length, -4(%BP)
	mov	$4, %eax		# write
	mov	$1, %ebx
	mov	$banner, %ecx
	mov	-4(%BP), %edx
	int	$0x80
	leave
	ret
