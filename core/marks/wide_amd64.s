//go:build !purego

#include "textflag.h"

DATA nibble<>+0(SB)/8, $0x0f0f0f0f0f0f0f0f
GLOBL nibble<>(SB), RODATA|NOPTR, $8

// LOAD takes the set at BX: its columns into Y0, its rows into Y1. Y2 is the mask of four bits, Y3 is zero.
#define LOAD \
	VBROADCASTI128 (BX), Y0        \
	VBROADCASTI128 16(BX), Y1      \
	VPBROADCASTQ   nibble<>(SB), Y2 \
	VPXOR          Y3, Y3, Y3

// LOOK looks at the 64 bytes at SI: a byte of Y4 and Y5 is zero where one is not of the set. A shuffle looks up each byte
// of a register, its low four bits among the columns and its high ones among the rows.
#define LOOK \
	VMOVDQU (SI), Y4       \
	VMOVDQU 32(SI), Y5     \
	VPAND   Y2, Y4, Y6     \
	VPAND   Y2, Y5, Y7     \
	VPSRLW  $4, Y4, Y4     \
	VPSRLW  $4, Y5, Y5     \
	VPAND   Y2, Y4, Y4     \
	VPAND   Y2, Y5, Y5     \
	VPSHUFB Y6, Y0, Y6     \
	VPSHUFB Y7, Y0, Y7     \
	VPSHUFB Y4, Y1, Y4     \
	VPSHUFB Y5, Y1, Y5     \
	VPAND   Y6, Y4, Y4     \
	VPAND   Y7, Y5, Y5

// func markWide(marks *uint64, text *byte, blocks int, of *Set)
TEXT ·markWide(SB), NOSPLIT, $0-32
	MOVQ marks+0(FP), DI
	MOVQ text+8(FP), SI
	MOVQ blocks+16(FP), CX
	MOVQ of+24(FP), BX
	LOAD

mark:
	LOOK
	VPCMPEQB  Y3, Y4, Y4
	VPCMPEQB  Y3, Y5, Y5
	VPMOVMSKB Y4, AX
	VPMOVMSKB Y5, DX
	SHLQ      $32, DX
	ORQ       DX, AX
	NOTQ      AX
	MOVQ      AX, (DI)
	ADDQ      $64, SI
	ADDQ      $8, DI
	DECQ      CX
	JNZ       mark
	VZEROUPPER
	RET

// func blocksWide(text *byte, blocks int, of *Set) int
TEXT ·blocksWide(SB), NOSPLIT, $0-32
	MOVQ text+0(FP), SI
	MOVQ blocks+8(FP), CX
	MOVQ of+16(FP), BX
	XORQ AX, AX
	LOAD

look:
	LOOK
	VPOR   Y4, Y5, Y4
	VPTEST Y4, Y4
	JNZ    found
	ADDQ   $64, SI
	INCQ   AX
	CMPQ   AX, CX
	JNE    look

found:
	MOVQ AX, ret+24(FP)
	VZEROUPPER
	RET
