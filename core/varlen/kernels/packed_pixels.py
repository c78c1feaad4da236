"""Reading and writing several bytes of an array at once, wherever they lie.

A pixel is three bytes, so two neighbours are six: one 8-byte read fetches both. The caller
sees to it that all eight bytes lie within the array.
"""

from __future__ import annotations

import platform
from typing import Any

import numba.extending
from llvmlite import ir
from numba import types
from numba.core import cgutils

_X86 = platform.machine().lower() in ("x86_64", "amd64")

#: A piece of machine code written as such; the compiler calls it with a context of its own.
intrinsic: Any = numba.extending.intrinsic


def _address(context: Any, builder: Any, signature: Any, args: Any, bits: int) -> Any:
    array = context.make_array(signature.args[0])(context, builder, args[0])
    return builder.bitcast(builder.gep(array.data, [args[1]]), ir.IntType(bits).as_pointer())


def _loader(bits: int, result: Any) -> Any:
    @intrinsic
    def load(typing: Any, array: Any, place: Any) -> Any:
        def generate(context: Any, builder: Any, signature: Any, args: Any) -> Any:
            value = builder.load(_address(context, builder, signature, args, bits))
            value.align = 1
            return value

        return result(array, types.uint64), generate

    return load


load64 = _loader(64, types.uint64)
load32 = _loader(32, types.uint32)
load16 = _loader(16, types.uint16)


def _storer(bits: int, kind: Any) -> Any:
    @intrinsic
    def store(typing: Any, array: Any, place: Any, value: Any) -> Any:
        """Write the bytes of `value` from `place` on, low byte first."""

        def generate(context: Any, builder: Any, signature: Any, args: Any) -> Any:
            written = builder.store(args[2], _address(context, builder, signature, args, bits))
            written.align = 1
            return context.get_dummy_value()

        return types.void(array, types.uint64, kind), generate

    return store


store32 = _storer(32, types.uint32)
store16 = _storer(16, types.uint16)


def _vector(bits: int, count: int, values: list[int] | None = None) -> Any:
    """The type of a vector of whole numbers, or a constant one."""
    kind = ir.VectorType(ir.IntType(bits), count)
    return kind if values is None else ir.Constant(kind, values)


def _spread(builder: Any, value: Any, count: int) -> Any:
    """The same number in every place of a vector."""
    kind = ir.VectorType(value.type, count)
    first = builder.insert_element(ir.Constant(kind, ir.Undefined), value, ir.Constant(ir.IntType(32), 0))
    return builder.shuffle_vector(first, ir.Constant(kind, ir.Undefined), _vector(32, count, [0] * count))


def _pair_sums(builder: Any, values: Any, weights: Any) -> Any:
    """Products of eight signed 16-bit numbers, added up two by two: one instruction where the processor has it."""
    if _X86:
        kind = ir.FunctionType(_vector(32, 4), [_vector(16, 8), _vector(16, 8)])
        return builder.call(cgutils.get_or_insert_function(builder.module, kind, "llvm.x86.sse2.pmadd.wd"), [values, weights])
    products = builder.mul(builder.sext(values, _vector(32, 8)), builder.sext(weights, _vector(32, 8)))
    nothing = ir.Constant(_vector(32, 8), ir.Undefined)
    parts = [builder.shuffle_vector(products, nothing, _vector(32, 4, list(range(start, 8, 2)))) for start in (0, 1)]
    return builder.add(*parts)


@intrinsic
def blend2x2(typing: Any, top: Any, bottom: Any, across: Any, down: Any) -> Any:
    """Two neighbours of the row above and two of the row below, interpolated: three bytes in the low ones of four.

    top, bottom: six bytes, channel by channel, in the low ones of eight; across, down: how far
    the place is from the left and upper pixels, 0 … 256. Exact to the rounding at the end:
    (Σ pixel · weight · weight + 32768) >> 16, for all channels at once.
    """

    def generate(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        upper, lower = (builder.zext(builder.bitcast(each, _vector(8, 8)), _vector(16, 8)) for each in args[:2])
        weight = _spread(builder, builder.trunc(args[3], ir.IntType(16)), 8)
        mixed = builder.add(builder.mul(upper, builder.sub(_vector(16, 8, [256] * 8), weight)), builder.mul(lower, weight))
        # Up to 65280: made signed by taking 32768 off, which is added again at the end, times 256.
        mixed = builder.xor(mixed, _vector(16, 8, [-32768] * 8))
        mixed = builder.shuffle_vector(mixed, mixed, _vector(32, 8, [0, 3, 1, 4, 2, 5, 6, 7]))
        right = builder.shl(args[2], ir.Constant(ir.IntType(32), 16))
        pair = builder.or_(builder.sub(ir.Constant(ir.IntType(32), 256), args[2]), right)
        sums = _pair_sums(builder, mixed, builder.bitcast(_spread(builder, pair, 4), _vector(16, 8)))
        levels = builder.lshr(builder.add(sums, _vector(32, 4, [32768 * 256 + 32768] * 4)), _vector(32, 4, [16] * 4))
        return builder.bitcast(builder.trunc(levels, _vector(8, 4)), ir.IntType(32))

    return types.uint32(types.uint64, types.uint64, types.uint32, types.uint32), generate


@intrinsic
def weigh4(typing: Any, source: Any, place: Any, weights: Any, first: Any, out: Any, target: Any) -> Any:
    """Four float32 values at once: out[target + c] = Σ over k of weights[first + k] · source[place + 3k + c].

    c and k run from 0 to 3; sums are taken in pairs, (0 + 1) + (2 + 3). Plain vector
    multiplications and additions, which every processor rounds alike.
    """

    def generate(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        single, index = ir.FloatType(), ir.IntType(64)
        vector = ir.VectorType(single, 4)

        def data(number: int) -> Any:
            return context.make_array(signature.args[number])(context, builder, args[number]).data

        products = []
        for k in range(4):
            at = builder.gep(data(0), [builder.add(args[1], ir.Constant(index, 3 * k))])
            values = builder.load(builder.bitcast(at, vector.as_pointer()))
            values.align = 4
            weight = builder.load(builder.gep(data(2), [builder.add(args[3], ir.Constant(index, k))]))
            spread = builder.insert_element(ir.Constant(vector, ir.Undefined), weight, ir.Constant(ir.IntType(32), 0))
            spread = builder.shuffle_vector(spread, spread, ir.Constant(ir.VectorType(ir.IntType(32), 4), [0, 0, 0, 0]))
            products.append(builder.fmul(values, spread))
        total = builder.fadd(builder.fadd(products[0], products[1]), builder.fadd(products[2], products[3]))
        written = builder.store(total, builder.bitcast(builder.gep(data(4), [args[5]]), vector.as_pointer()))
        written.align = 4
        return context.get_dummy_value()

    return types.void(source, types.uint64, weights, types.uint64, out, types.uint64), generate


@intrinsic
def product8(typing: Any, one: Any, other: Any, out: Any) -> Any:
    """The product of two 8 × 8 matrices, each 64 float32 in a row, into a third, which may be one of them.

    Row by row, the terms added up in order; plain vector multiplications and additions, which every processor rounds alike.
    """

    def generate(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        single, index = ir.FloatType(), ir.IntType(64)
        vector = ir.VectorType(single, 8)

        def data(number: int, place: int) -> Any:
            array = context.make_array(signature.args[number])(context, builder, args[number])
            return builder.gep(array.data, [ir.Constant(index, place)])

        def line(number: int, row: int) -> Any:
            return builder.bitcast(data(number, 8 * row), vector.as_pointer())

        rows = [builder.load(line(1, row)) for row in range(8)]
        for each in rows:
            each.align = 4
        factors = [[builder.load(data(0, 8 * row + k)) for k in range(8)] for row in range(8)]
        for row in range(8):
            total = None
            for k in range(8):
                spread = builder.insert_element(ir.Constant(vector, ir.Undefined), factors[row][k], ir.Constant(ir.IntType(32), 0))
                spread = builder.shuffle_vector(spread, spread, _vector(32, 8, [0] * 8))
                product = builder.fmul(spread, rows[k])
                total = product if total is None else builder.fadd(total, product)
            written = builder.store(total, line(2, row))
            written.align = 4
        return context.get_dummy_value()

    return types.void(one, other, out), generate
