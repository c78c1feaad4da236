"""Reading and writing several bytes of an array at once, wherever they lie.

A pixel is three bytes, so two neighbours are six: one 8-byte read fetches both. The caller
sees to it that all eight bytes lie within the array.
"""

from __future__ import annotations

from typing import Any

import numba.extending
from llvmlite import ir
from numba import types

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


@intrinsic
def store32(typing: Any, array: Any, place: Any, value: Any) -> Any:
    """Write the four bytes of `value` from `place` on, low byte first."""

    def generate(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        written = builder.store(args[2], _address(context, builder, signature, args, 32))
        written.align = 1
        return context.get_dummy_value()

    return types.void(array, types.uint64, types.uint32), generate


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
