#include "textflag.h"

// The bit of each byte in its eight.
DATA bits<>+0(SB)/8, $0x8040201008040201
DATA bits<>+8(SB)/8, $0x8040201008040201
GLOBL bits<>(SB), RODATA|NOPTR, $16

// Compares 64 bytes in V4 to V7 with V of what, keeps of each that is equal its bit, adds up the bits
// of each eight bytes, and stores them.
#define FIND(what) \
	VCMEQ what, V4.B16, V16.B16 \
	VCMEQ what, V5.B16, V17.B16 \
	VCMEQ what, V6.B16, V18.B16 \
	VCMEQ what, V7.B16, V19.B16 \
	VAND V3.B16, V16.B16, V16.B16 \
	VAND V3.B16, V17.B16, V17.B16 \
	VAND V3.B16, V18.B16, V18.B16 \
	VAND V3.B16, V19.B16, V19.B16 \
	VADDP V17.B16, V16.B16, V16.B16 \
	VADDP V19.B16, V18.B16, V18.B16 \
	VADDP V18.B16, V16.B16, V16.B16 \
	VADDP V16.B16, V16.B16, V16.B16 \
	VMOV V16.D[0], R7 \
	MOVD.P R7, 8(R0)

// func masksNEON(dst *masks, data *byte, blocks int, delimiter, quote byte)
TEXT ·masksNEON(SB), NOSPLIT, $0-26
	MOVD dst+0(FP), R0
	MOVD data+8(FP), R1
	MOVD blocks+16(FP), R2
	MOVBU delimiter+24(FP), R3
	MOVBU quote+25(FP), R4
	VDUP R3, V0.B16
	VDUP R4, V1.B16
	MOVD $10, R5
	VDUP R5, V2.B16
	MOVD $bits<>(SB), R6
	VLD1 (R6), [V3.B16]

block:
	VLD1.P 64(R1), [V4.B16, V5.B16, V6.B16, V7.B16]
	FIND(V0.B16)
	FIND(V2.B16)
	FIND(V1.B16)
	ADD $8, R0
	SUB $1, R2
	CBNZ R2, block
	RET
