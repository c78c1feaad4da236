"""Sixteen levels or pixels at once, by products of 16-bit numbers that are added up in pairs.

Whole numbers throughout, the same ones that the plain loops in `recolor` and `blur` work out,
so the bytes are the same. Used where the processor has such products by the sixteen.
"""

from __future__ import annotations

from typing import Any

from llvmlite import ir
from numba import types
from numba.core import config
from numba.core.cgutils import get_or_insert_function
from numba.core.codegen import get_host_cpu_features

from varlen.kernels.packed_pixels import _vector, intrinsic

#: Pixels that are worked on together.
WIDE = 16


def _features() -> str:
    """What the processor that code is compiled for can do, as LLVM lists it."""
    settings: Any = config
    if settings.CPU_FEATURES is not None:
        return str(settings.CPU_FEATURES)
    return str(get_host_cpu_features()) if settings.CPU_NAME in (None, "host") else ""


#: Whether products of 16-bit numbers can be had by the sixteen.
HAS_WIDE = "+avx2" in _features().split(",")


def _split(count: int) -> tuple[list[int], list[int]]:
    """Places of the two halves of `count` pixels, as the processor parts pairs: within each half of its registers."""
    low = [base + n for base in range(0, count, 8) for n in range(4)]
    return low, [place + 4 for place in low]


def _gathered(builder: Any, parts: list[Any], wanted: list[tuple[int, int]]) -> Any:
    """Sixteen bytes out of some times sixteen: from which of them, and from which place there."""
    kind = ir.FunctionType(_vector(8, 16), [_vector(8, 16), _vector(8, 16)])
    take = get_or_insert_function(builder.module, kind, "llvm.x86.ssse3.pshuf.b.128")
    found = None
    for number, part in enumerate(parts):
        # A place with its high bit set gives zero.
        taken = builder.call(take, [part, _vector(8, 16, [place if source == number else -128 for source, place in wanted])])
        found = taken if found is None else builder.or_(found, taken)
    return found


@intrinsic
def matrix16(typing: Any, line: Any, place: Any, pairs: Any, offsets: Any) -> Any:
    """Sixteen pixels from byte `place` of `line` on through a color matrix, in place.

    pairs: 12 int16, for each channel the coefficients of red, green, blue and 0, in 1/16384; offsets: 3 int32, what is
    added to each before the shift.
    """

    def generate(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        def data(number: int) -> Any:
            return context.make_array(signature.args[number])(context, builder, args[number]).data

        i32 = ir.IntType(32)
        places = [builder.gep(data(0), [builder.add(args[1], ir.Constant(ir.IntType(64), 16 * n))]) for n in range(3)]
        pointers = [builder.bitcast(place, _vector(8, 16).as_pointer()) for place in places]
        parts16 = [builder.load(pointer) for pointer in pointers]
        for each in parts16:
            each.align = 1
        # Byte n of channel c is byte 3n + c of the 48, and the other way round.
        channels = [builder.zext(_gathered(builder, parts16, [divmod(3 * n + c, 16) for n in range(16)]), _vector(16, 16)) for c in range(3)]
        zero = _vector(16, 16, [0] * 16)
        kind = ir.FunctionType(_vector(32, 8), [_vector(16, 16), _vector(16, 16)])
        products = get_or_insert_function(builder.module, kind, "llvm.x86.avx2.pmadd.wd")
        halves = []
        for half in _split(16):
            both = [
                builder.shuffle_vector(one, other, _vector(32, 16, [k for n in half for k in (n, 16 + n)]))
                for one, other in ((channels[0], channels[1]), (channels[2], zero))
            ]
            halves.append(both)
        results = []
        for c in range(3):
            weights = []
            for n in range(2):
                pointer = builder.bitcast(builder.gep(data(2), [ir.Constant(ir.IntType(64), 4 * c + 2 * n)]), i32.as_pointer())
                pair = builder.load(pointer)
                pair.align = 2
                spread = builder.insert_element(ir.Constant(_vector(32, 8), ir.Undefined), pair, ir.Constant(i32, 0))
                spread = builder.shuffle_vector(spread, spread, _vector(32, 8, [0] * 8))
                weights.append(builder.bitcast(spread, _vector(16, 16)))
            offset = builder.load(builder.gep(data(3), [ir.Constant(ir.IntType(64), c)]))
            added = builder.insert_element(ir.Constant(_vector(32, 8), ir.Undefined), offset, ir.Constant(i32, 0))
            added = builder.shuffle_vector(added, added, _vector(32, 8, [0] * 8))
            parts = []
            for both in halves:
                total = builder.add(builder.call(products, [both[0], weights[0]]), builder.call(products, [both[1], weights[1]]))
                parts.append(builder.ashr(builder.add(total, added), _vector(32, 8, [14] * 8)))
            # Cut off to 16 bits and put back in order by the instruction that undoes the parting.
            packing = ir.FunctionType(_vector(16, 16), [_vector(32, 8), _vector(32, 8)])
            packed = builder.call(get_or_insert_function(builder.module, packing, "llvm.x86.avx2.packssdw"), parts)
            low, high = _vector(16, 16, [0] * 16), _vector(16, 16, [255] * 16)
            packed = builder.select(builder.icmp_signed("<", packed, low), low, packed)
            packed = builder.select(builder.icmp_signed(">", packed, high), high, packed)
            results.append(builder.trunc(packed, _vector(8, 16)))
        for n, pointer in enumerate(pointers):
            written = builder.store(_gathered(builder, results, [(k % 3, k // 3) for k in range(16 * n, 16 * n + 16)]), pointer)
            written.align = 1
        return context.get_dummy_value()

    return types.void(line, types.uint64, pairs, offsets), generate


@intrinsic
def down16(typing: Any, flat: Any, rows: Any, place: Any, pairs: Any, out: Any) -> Any:
    """Sixteen sums of levels down thirteen rows, as float32 into out[place …]: the middle one and six neighbours on either side.

    rows: where in `flat` the middle row begins, and its neighbours, pair by pair; pairs: 8 int16, the weights of the middle
    and of each pair, and 0.
    """

    def generate(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        index = ir.IntType(64)

        def data(number: int) -> Any:
            return context.make_array(signature.args[number])(context, builder, args[number]).data

        def levels(number: int) -> Any:
            begin = builder.load(builder.gep(data(1), [ir.Constant(index, number)]))
            at = builder.bitcast(builder.gep(data(0), [builder.add(begin, args[2])]), _vector(8, 16).as_pointer())
            loaded = builder.load(at)
            loaded.align = 1
            return builder.zext(loaded, _vector(16, 16))

        sums = [levels(0), *(builder.add(levels(2 * n - 1), levels(2 * n)) for n in range(1, 7)), _vector(16, 16, [0] * 16)]
        kind = ir.FunctionType(_vector(32, 8), [_vector(16, 16), _vector(16, 16)])
        products = get_or_insert_function(builder.module, kind, "llvm.x86.avx2.pmadd.wd")
        totals: list[Any] = [None, None]
        for n in range(0, 8, 2):
            pointer = builder.bitcast(builder.gep(data(3), [ir.Constant(index, n)]), ir.IntType(32).as_pointer())
            pair = builder.load(pointer)
            pair.align = 2
            spread = builder.insert_element(ir.Constant(_vector(32, 8), ir.Undefined), pair, ir.Constant(ir.IntType(32), 0))
            weights = builder.bitcast(builder.shuffle_vector(spread, spread, _vector(32, 8, [0] * 8)), _vector(16, 16))
            for half, wanted in enumerate(_split(16)):
                both = builder.shuffle_vector(sums[n], sums[n + 1], _vector(32, 16, [k for m in wanted for k in (m, 16 + m)]))
                product = builder.call(products, [both, weights])
                totals[half] = product if totals[half] is None else builder.add(totals[half], product)
        # Back in order: the halves were parted within each half of a register.
        for base, wanted in ((0, [0, 1, 2, 3, 8, 9, 10, 11]), (8, [4, 5, 6, 7, 12, 13, 14, 15])):
            whole = builder.shuffle_vector(totals[0], totals[1], _vector(32, 8, wanted))
            floats = builder.sitofp(whole, ir.VectorType(ir.FloatType(), 8))
            at = builder.bitcast(builder.gep(data(4), [builder.add(args[2], ir.Constant(index, base))]), floats.type.as_pointer())
            written = builder.store(floats, at)
            written.align = 4
        return context.get_dummy_value()

    return types.void(flat, rows, types.uint64, pairs, out), generate
