#include "textflag.h"

// FIND16 sets a bit of DST for each of the 16 bytes of X that is in the set.
#define FIND16(X, DST) \
	MOVO X, X8; \
	MOVO X, X9; \
	MOVO X, X10; \
	PCMPEQB X0, X8; \
	PCMPEQB X1, X9; \
	PCMPEQB X2, X10; \
	PCMPEQB X3, X; \
	POR X8, X9; \
	POR X10, X; \
	POR X9, X; \
	PMOVMSKB X, DST

// func find(to []uint64, text []byte, s *Set)
TEXT ·find(SB), NOSPLIT, $0-56
	MOVQ to_base+0(FP), DI
	MOVQ to_len+8(FP), CX
	MOVQ text_base+24(FP), SI
	MOVQ s+48(FP), DX
	MOVQ 0(DX), X0
	MOVQ 8(DX), X1
	MOVQ 16(DX), X2
	MOVQ 24(DX), X3
	PUNPCKLQDQ X0, X0
	PUNPCKLQDQ X1, X1
	PUNPCKLQDQ X2, X2
	PUNPCKLQDQ X3, X3
	TESTQ CX, CX
	JZ done
next:
	MOVOU 0(SI), X4
	MOVOU 16(SI), X5
	MOVOU 32(SI), X6
	MOVOU 48(SI), X7
	FIND16(X4, AX)
	FIND16(X5, BX)
	FIND16(X6, R8)
	FIND16(X7, R9)
	SHLQ $16, BX
	SHLQ $32, R8
	SHLQ $48, R9
	ORQ BX, AX
	ORQ R9, R8
	ORQ R8, AX
	MOVQ AX, 0(DI)
	ADDQ $64, SI
	ADDQ $8, DI
	DECQ CX
	JNZ next
done:
	RET
