"""Sixteen sums at a time, in packed numbers: the compiler finds none where it cannot know that what is written lies
nowhere in what is read."""

from llvmlite import ir
from numba import types
from numba.core import cgutils
from numba.extending import intrinsic

LANES = 16


@intrinsic
def best_sums(typing_context, first, after, begin, begins, codes, width, tables, best):  # type: ignore[no-untyped-def]
    """For each of 16 lanes the largest sum among the rows [first, after); -inf where there are none.

    Parameters
    ----------
    first, after : int64
    begin : (n,) uint16, what each row begins with: a row of `begins`
    begins : (m, 16) float32
    codes : (n, width) uint8, added for each: a row of `tables`
    width : int64
    tables : (width, 256, 16) float32
    best : (16,) float32, written

    Notes
    -----
    All arrays are contiguous. Each lane is added from the first code to the last, so a sum is that of a plain loop.
    """
    given = (types.int64, types.int64, begin, begins, codes, types.int64, tables, best)

    def generate(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
        number, count = ir.FloatType(), ir.IntType(64)
        packed = ir.VectorType(number, LANES)

        def data(place):  # type: ignore[no-untyped-def]
            return context.make_array(signature.args[place])(context, builder, arguments[place]).data

        def sixteen(array, row):  # type: ignore[no-untyped-def]
            at = builder.gep(array, [builder.mul(row, count(LANES))])
            found = builder.load(builder.bitcast(at, packed.as_pointer()))
            found.align = 4
            return found

        rows, starts, bytes_, shares, written = (data(place) for place in (2, 3, 4, 6, 7))
        most = cgutils.alloca_once_value(builder, ir.Constant(packed, [ir.Constant(number, float("-inf"))] * LANES))
        own = cgutils.alloca_once(builder, packed)
        with cgutils.for_range_slice(builder, arguments[0], arguments[1], count(1)) as (row, _):
            builder.store(sixteen(starts, builder.zext(builder.load(builder.gep(rows, [row])), count)), own)
            base = builder.mul(row, arguments[5])
            with cgutils.for_range(builder, arguments[5]) as loop:
                code = builder.load(builder.gep(bytes_, [builder.add(base, loop.index)]))
                place = builder.add(builder.mul(loop.index, count(256)), builder.zext(code, count))
                builder.store(builder.fadd(builder.load(own), sixteen(shares, place)), own)
            this, before = builder.load(own), builder.load(most)
            builder.store(builder.select(builder.fcmp_ordered(">", this, before), this, before), most)
        builder.store(builder.load(most), builder.bitcast(written, packed.as_pointer())).align = 4
        return context.get_dummy_value()

    return types.void(*given), generate
