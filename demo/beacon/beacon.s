# The beacon of the Grayling Sound tide station: tells its name and the night's flashes by raw system calls.
# Its texts stand in the code section, past the last system call.
	.intel_syntax noprefix
	.globl	_start
	.text
_start:
	mov	r12d, 3			# flashes
flash:
	mov	edx, offset name_length
	lea	rsi, [rip+name]
	mov	edi, 1			# standard output
	mov	eax, 1			# write
	syscall
	lea	rdi, [rip+pause]
	xor	esi, esi
	mov	eax, 35			# nanosleep: the light is dark for a moment
	syscall
	dec	r12d
	jnz	flash
	mov	edx, offset dark_length
	lea	rsi, [rip+dark]
	mov	edi, 1
	mov	eax, 1
	syscall
	xor	edi, edi
	mov	eax, 60			# exit
	syscall

pause:	.quad	0, 2000000		# seconds, nanoseconds
name:	.ascii	"Grayling Sound: flash\n"
	.set	name_length, . - name
dark:	.ascii	"dark until high water\n"
	.set	dark_length, . - dark
