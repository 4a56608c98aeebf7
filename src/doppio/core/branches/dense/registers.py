"""Sums of table entries that a processor looks up sixteen at a time, in a register.

References
----------
.. [1] F. André, A.-M. Kermarrec, N. Le Scouarnec, "Cache Locality Is Not Enough: High-Performance Nearest Neighbor
   Search with Product Quantization Fast Scan", VLDB 9(4), 2015.
"""

import platform
from typing import Any

import numpy as np
from llvmlite import ir
from numba import njit, types
from numba.core import cgutils
from numba.extending import intrinsic

# Rows of a block: a byte of a part holds the codes of two of them, the i-th and the one sixteen after it.
ROWS, HALF = 32, 16
# The instruction is there on every such processor since 2006; elsewhere plain loops do the same.
SHUFFLES = platform.machine().lower() in ("x86_64", "amd64")


@intrinsic
def _shuffled(typing_context, codes, tables, parts, sums):  # type: ignore[no-untyped-def]
    """Add up, for a block of rows, what every part's table holds for its code; gives the largest sum."""

    def generate(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
        codes, tables, parts, sums = arguments
        bytes_16, words_16 = ir.VectorType(ir.IntType(8), HALF), ir.VectorType(ir.IntType(16), HALF)
        shuffle = builder.module.declare_intrinsic(
            "llvm.x86.ssse3.pshuf.b.128", (), ir.FunctionType(bytes_16, [bytes_16, bytes_16])
        )

        def of(address: Any, offset: Any, kind: Any) -> Any:
            pointer = builder.inttoptr(builder.add(address, offset), kind.as_pointer())
            found = builder.load(pointer)
            found.align = 1
            return found

        zero = ir.Constant(words_16, [0] * HALF)
        first, second = cgutils.alloca_once_value(builder, zero), cgutils.alloca_once_value(builder, zero)
        low = ir.Constant(bytes_16, [15] * HALF)
        four = ir.Constant(bytes_16, [4] * HALF)
        with cgutils.for_range(builder, parts) as loop:
            offset = builder.mul(loop.index, ir.Constant(loop.index.type, HALF))
            own, table = of(codes, offset, bytes_16), of(tables, offset, bytes_16)
            for total, index in ((first, builder.and_(own, low)), (second, builder.lshr(own, four))):
                entries = builder.zext(builder.call(shuffle, [table, index]), words_16)
                builder.store(builder.add(builder.load(total), entries), total)
        for place, total in enumerate((first, second)):
            address = builder.add(sums, ir.Constant(sums.type, 2 * HALF * place))
            stored = builder.store(builder.load(total), builder.inttoptr(address, words_16.as_pointer()))
            stored.align = 1
        one, other = builder.load(first), builder.load(second)
        larger = builder.select(builder.icmp_unsigned(">", one, other), one, other)
        reduce = builder.module.declare_intrinsic(
            "llvm.vector.reduce.umax.v16i16", (), ir.FunctionType(ir.IntType(16), [words_16])
        )
        return builder.call(reduce, [larger])

    return types.uint16(types.intp, types.intp, types.intp, types.intp), generate


if SHUFFLES:

    @njit(cache=True, nogil=True)
    def block_sums(codes, block, tables, sums):  # type: ignore[no-untyped-def]
        """Sums of the table entries of one block of rows; returns the largest.

        codes : (blocks, parts, 16) uint8, C-ordered
        tables : (parts, 16) uint8, C-ordered
        sums : (32,) uint16, filled
        """
        parts = codes.shape[1]
        return _shuffled(codes.ctypes.data + block * parts * HALF, tables.ctypes.data, parts, sums.ctypes.data)

else:

    @njit(cache=True, nogil=True)
    def block_sums(codes, block, tables, sums):  # type: ignore[no-untyped-def]
        """The same without the instruction."""
        sums[:] = 0
        for part in range(codes.shape[1]):
            for place in range(HALF):
                both = codes[block, part, place]
                sums[place] += np.uint16(tables[part, both & 15])
                sums[HALF + place] += np.uint16(tables[part, both >> 4])
        return sums.max()


def packed_codes(codes: np.ndarray) -> np.ndarray:
    """Codes below 16 of n rows, (n, parts) uint8, as `block_sums` reads them; what is lacking to a block is 0."""
    count, parts = codes.shape
    blocks = -(-count // ROWS)
    whole = np.zeros((blocks * ROWS, parts), np.uint8)
    whole[:count] = codes
    halves = whole.reshape(blocks, 2, HALF, parts)
    return np.ascontiguousarray((halves[:, 0] | (halves[:, 1] << 4)).transpose(0, 2, 1))
