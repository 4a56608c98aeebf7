"""Single instructions on the bits of a word that Numba has no name for."""

from llvmlite import ir
from numba import types
from numba.extending import intrinsic


@intrinsic
def ones_in(typing_context, word):  # type: ignore[no-untyped-def]
    """Bits of a word that are set."""

    def generate(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
        return builder.ctpop(arguments[0])

    return types.uint64(types.uint64), generate


@intrinsic
def trailing_zeros(typing_context, word):  # type: ignore[no-untyped-def]
    """Place of the lowest bit that is set; the word must not be 0."""

    def generate(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
        return builder.cttz(arguments[0], ir.Constant(ir.IntType(1), 1))

    return types.uint64(types.uint64), generate
