#include "textflag.h"

// func marksOf(b *[64]byte, delimiter byte) uint64
//
// Sixteen bytes at a time are compared with the delimiter and with a line feed;
// SSE2, which every amd64 has.
TEXT ·marksOf(SB), NOSPLIT, $0-24
	MOVQ    b+0(FP), SI
	MOVBLZX delimiter+8(FP), AX
	MOVQ    $0x0101010101010101, CX
	IMULQ   CX, AX
	MOVQ    AX, X0
	PUNPCKLQDQ X0, X0
	MOVQ    $0x0a0a0a0a0a0a0a0a, CX
	MOVQ    CX, X1
	PUNPCKLQDQ X1, X1

	MOVOU   (SI), X2
	MOVO    X2, X3
	PCMPEQB X0, X2
	PCMPEQB X1, X3
	POR     X3, X2
	PMOVMSKB X2, AX

	MOVOU   16(SI), X4
	MOVO    X4, X5
	PCMPEQB X0, X4
	PCMPEQB X1, X5
	POR     X5, X4
	PMOVMSKB X4, BX

	MOVOU   32(SI), X6
	MOVO    X6, X7
	PCMPEQB X0, X6
	PCMPEQB X1, X7
	POR     X7, X6
	PMOVMSKB X6, CX

	MOVOU   48(SI), X8
	MOVO    X8, X9
	PCMPEQB X0, X8
	PCMPEQB X1, X9
	POR     X9, X8
	PMOVMSKB X8, DX

	SHLQ    $16, BX
	SHLQ    $32, CX
	SHLQ    $48, DX
	ORQ     BX, AX
	ORQ     CX, AX
	ORQ     DX, AX
	MOVQ    AX, ret+16(FP)
	RET
