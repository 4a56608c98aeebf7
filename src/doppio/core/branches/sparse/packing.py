"""Whole numbers in as few bits as they need, in steps that a processor unpacks many at a time.

Each block of 128 numbers has one width: 0, 4, 8, 16 or 32 bits. Tighter widths would take a fifth less room and, in
plain compiled loops, four times as long to read.

References
----------
.. [1] D. Lemire, L. Boytsov, "Decoding billions of integers per second through vectorization",
   Software: Practice and Experience 45(1), 2015.
"""

import numpy as np
from numba import njit
from numpy.typing import NDArray

BLOCK = 128


@njit(cache=True, nogil=True)
def width_of(largest):  # type: ignore[no-untyped-def]
    """Bits of a block whose largest number this is."""
    if largest == 0:
        return 0
    if largest < 16:
        return 4
    if largest < 256:
        return 8
    return 16 if largest < 65536 else 32


@njit(cache=True, nogil=True)
def bytes_for(count, width):  # type: ignore[no-untyped-def]
    """Bytes that `count` numbers of `width` bits take."""
    return (count * width + 7) // 8


@njit(cache=True, nogil=True)
def pack(values: NDArray[np.int64], count: int, width: int, data: NDArray[np.uint8], at: int) -> None:
    """Write the first `count` values from byte `at` on; the bytes must be zero."""
    if width == 4:
        for place in range(count):
            data[at + (place >> 1)] |= np.uint8(values[place] << (4 * (place & 1)))
        return
    size = width // 8
    for place in range(count):
        for byte in range(size):
            data[at + place * size + byte] = np.uint8((values[place] >> (8 * byte)) & 255)


@njit(cache=True, nogil=True, inline="always")
def unpack(data, at, width, count, values):  # type: ignore[no-untyped-def]
    """Read `count` values of `width` bits from byte `at` on, into int32 `values` with room for an even number."""
    # Places without a sign need no look whether they count from the end, so that the loops run on packed numbers.
    own = data[at:]
    if width == 0:
        for place in range(count):
            values[place] = 0
    elif width == 4:
        for pair in range((count + 1) >> 1):
            both = np.int32(own[np.uint64(pair)])
            values[np.uint64(2 * pair)] = both & 15
            values[np.uint64(2 * pair + 1)] = both >> 4
    elif width == 8:
        for place in range(count):
            values[np.uint64(place)] = np.int32(own[np.uint64(place)])
    elif width == 16:
        for place in range(count):
            byte = np.uint64(2 * place)
            values[np.uint64(place)] = np.int32(own[byte]) | (np.int32(own[byte + np.uint64(1)]) << 8)
    else:
        for place in range(count):
            byte = np.uint64(4 * place)
            values[np.uint64(place)] = (
                np.int32(own[byte])
                | (np.int32(own[byte + np.uint64(1)]) << 8)
                | (np.int32(own[byte + np.uint64(2)]) << 16)
                | (np.int32(own[byte + np.uint64(3)]) << 24)
            )
