#include "textflag.h"

// Compares 64 bytes in Y3 and Y4 with Y of what, and stores a bit for each that is equal.
#define FIND32(what, at) \
	VPCMPEQB what, Y3, Y5 \
	VPCMPEQB what, Y4, Y6 \
	VPMOVMSKB Y5, AX \
	VPMOVMSKB Y6, BX \
	SHLQ $32, BX \
	ORQ BX, AX \
	MOVQ AX, at(DI)

// Multiplied by ones without carry, AX has a bit where an odd number of bits stand up to it.
#define WITHIN(at) \
	VMOVQ AX, X7 \
	VPCLMULQDQ $0, X8, X7, X7 \
	VMOVQ X7, at(DI)

// func masksAVX2(dst *masks, data *byte, blocks int, delimiter, quote byte)
TEXT ·masksAVX2(SB), NOSPLIT, $0-26
	MOVQ dst+0(FP), DI
	MOVQ data+8(FP), SI
	MOVQ blocks+16(FP), CX
	MOVBLZX delimiter+24(FP), AX
	MOVBLZX quote+25(FP), BX
	MOVQ AX, X0
	VPBROADCASTB X0, Y0
	MOVQ BX, X1
	VPBROADCASTB X1, Y1
	MOVQ $10, AX
	MOVQ AX, X2
	VPBROADCASTB X2, Y2
	VPCMPEQB X8, X8, X8

wide:
	VMOVDQU (SI), Y3
	VMOVDQU 32(SI), Y4
	FIND32(Y0, 0)
	FIND32(Y2, 8)
	FIND32(Y1, 16)
	WITHIN(24)
	ADDQ $64, SI
	ADDQ $32, DI
	DECQ CX
	JNZ wide
	VZEROUPPER
	RET

// Compares 64 bytes in X3 to X6 with X of what, and stores a bit for each that is equal.
#define FIND16(what, at) \
	MOVO X3, X7 \
	MOVO X4, X8 \
	MOVO X5, X9 \
	MOVO X6, X10 \
	PCMPEQB what, X7 \
	PCMPEQB what, X8 \
	PCMPEQB what, X9 \
	PCMPEQB what, X10 \
	PMOVMSKB X7, AX \
	PMOVMSKB X8, BX \
	PMOVMSKB X9, DX \
	PMOVMSKB X10, R8 \
	SHLQ $16, BX \
	SHLQ $32, DX \
	SHLQ $48, R8 \
	ORQ BX, AX \
	ORQ DX, AX \
	ORQ R8, AX \
	MOVQ AX, at(DI)

// func masksSSE2(dst *masks, data *byte, blocks int, delimiter, quote byte)
TEXT ·masksSSE2(SB), NOSPLIT, $0-26
	MOVQ dst+0(FP), DI
	MOVQ data+8(FP), SI
	MOVQ blocks+16(FP), CX
	MOVQ $0x0101010101010101, R9
	MOVBLZX delimiter+24(FP), AX
	IMULQ R9, AX
	MOVQ AX, X0
	PUNPCKLQDQ X0, X0
	MOVBLZX quote+25(FP), AX
	IMULQ R9, AX
	MOVQ AX, X1
	PUNPCKLQDQ X1, X1
	MOVQ $0x0a0a0a0a0a0a0a0a, AX
	MOVQ AX, X2
	PUNPCKLQDQ X2, X2

narrow:
	MOVOU (SI), X3
	MOVOU 16(SI), X4
	MOVOU 32(SI), X5
	MOVOU 48(SI), X6
	FIND16(X0, 0)
	FIND16(X2, 8)
	FIND16(X1, 16)
	ADDQ $64, SI
	ADDQ $32, DI
	DECQ CX
	JNZ narrow
	RET

// func rangeAVX2(data *byte, blocks int) (high, zeros uint32)
TEXT ·rangeAVX2(SB), NOSPLIT, $0-24
	MOVQ data+0(FP), SI
	MOVQ blocks+8(FP), CX
	VPXOR Y0, Y0, Y0
	VPCMPEQB Y1, Y1, Y1

ranged:
	VMOVDQU (SI), Y2
	VMOVDQU 32(SI), Y3
	VPOR Y2, Y3, Y4
	VPOR Y4, Y0, Y0
	VPMINUB Y2, Y3, Y4
	VPMINUB Y4, Y1, Y1
	ADDQ $64, SI
	DECQ CX
	JNZ ranged
	VPMOVMSKB Y0, AX
	VPXOR Y2, Y2, Y2
	VPCMPEQB Y2, Y1, Y1
	VPMOVMSKB Y1, BX
	VZEROUPPER
	MOVL AX, high+16(FP)
	MOVL BX, zeros+20(FP)
	RET
