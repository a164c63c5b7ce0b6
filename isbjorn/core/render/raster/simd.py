"""Eight pixels, or the four channels of one, at once: explicit vector instructions, because the compiler does not find them
reliably.

A group of eight pixels is 32 float32 in memory: eight red, eight green, eight blue, eight alpha.
"""

from __future__ import annotations

from typing import Any

from llvmlite import ir
from numba import types
from numba.extending import intrinsic

LANES = 8
_VECTOR = ir.VectorType(ir.FloatType(), LANES)
_PIXEL = ir.VectorType(ir.FloatType(), 4)
_CONTRACT = ("contract", "nnan", "ninf", "nsz")


def _splat(builder: ir.IRBuilder, scalar: ir.Value, count: int = LANES) -> ir.Value:
    none = ir.Constant(ir.VectorType(ir.FloatType(), count), ir.Undefined)
    one = builder.insert_element(none, scalar, ir.Constant(ir.IntType(32), 0))
    lanes = ir.Constant(ir.VectorType(ir.IntType(32), count), [0] * count)
    return builder.shuffle_vector(one, none, lanes)


def _vector(builder: ir.IRBuilder, data: ir.Value, index: ir.Value, width: int) -> ir.Value:
    """A number of consecutive elements of an array, from an index on."""
    return builder.bitcast(builder.gep(data, [index]), ir.VectorType(ir.FloatType(), width).as_pointer())


@intrinsic
def composite(typingctx, pixels, offset, dx, rest, c1, w1, w2, w3, red, green, blue, cover):  # type: ignore[no-untyped-def]  # noqa: ARG001
    """Composite a body into the group of eight pixels at `offset` of a flat float32 array.

    dx: from the body's centre to the first pixel's, in px. rest: c0 - c1 dy² of the row. The others as in a record.
    """
    real = types.float32
    signature = types.void(pixels, types.int64, *[real] * 10)

    def generate(context: Any, builder: ir.IRBuilder, sig: Any, args: Any) -> Any:
        array = context.make_array(sig.args[0])(context, builder, args[0])
        dx, rest, c1, w1, w2, w3, *colour = (_splat(builder, a) for a in args[2:])
        lane = ir.Constant(_VECTOR, [float(i) for i in range(LANES)])
        zero, one = ir.Constant(_VECTOR, [0.0] * LANES), ir.Constant(_VECTOR, [1.0] * LANES)

        def add(a: ir.Value, b: ir.Value) -> ir.Value:
            return builder.fadd(a, b, flags=_CONTRACT)

        def sub(a: ir.Value, b: ir.Value) -> ir.Value:
            return builder.fsub(a, b, flags=_CONTRACT)

        def mul(a: ir.Value, b: ir.Value) -> ir.Value:
            return builder.fmul(a, b, flags=_CONTRACT)

        x = add(dx, lane)
        q = sub(rest, mul(mul(c1, x), x))
        q = builder.select(builder.fcmp_ordered(">", q, zero), q, zero)
        q = builder.select(builder.fcmp_ordered("<", q, one), q, one)
        w = mul(q, add(w1, mul(q, add(w2, mul(q, w3)))))
        keep = sub(one, mul(colour[3], w))
        for channel in range(4):
            at = builder.add(args[1], ir.Constant(ir.IntType(64), channel * LANES))
            pointer = builder.gep(array.data, [at])
            pointer = builder.bitcast(pointer, _VECTOR.as_pointer())
            old = builder.load(pointer, align=4)
            builder.store(add(mul(old, keep), mul(colour[channel], w)), pointer, align=4)
        return context.get_dummy_value()

    return signature, generate


@intrinsic
def composite_pixel(typingctx, pixels, offset, w, red, green, blue, cover):  # type: ignore[no-untyped-def]  # noqa: ARG001
    """Composite a share `w` of a body into the interleaved pixel at `offset` of a flat float32 array: its four channels at once."""
    real = types.float32
    signature = types.void(pixels, types.int64, *[real] * 5)

    def generate(context: Any, builder: ir.IRBuilder, sig: Any, args: Any) -> Any:
        array = context.make_array(sig.args[0])(context, builder, args[0])
        colour = ir.Constant(_PIXEL, ir.Undefined)
        for channel, value in enumerate(args[3:]):
            colour = builder.insert_element(colour, value, ir.Constant(ir.IntType(32), channel))
        w = _splat(builder, args[2], 4)
        one, cover = ir.Constant(_PIXEL, [1.0] * 4), _splat(builder, args[6], 4)
        keep = builder.fsub(one, builder.fmul(cover, w, flags=_CONTRACT), flags=_CONTRACT)
        pointer = builder.bitcast(builder.gep(array.data, [args[1]]), _PIXEL.as_pointer())
        old = builder.fmul(builder.load(pointer, align=4), keep, flags=_CONTRACT)
        builder.store(builder.fadd(old, builder.fmul(colour, w, flags=_CONTRACT), flags=_CONTRACT), pointer, align=4)
        return context.get_dummy_value()

    return signature, generate


@intrinsic
def interleave(typingctx, planes, offset, out, at):  # type: ignore[no-untyped-def]  # noqa: ARG001
    """Copy the group of eight pixels at `offset` of a flat array of planes to interleaved pixels at `at` of another."""
    signature = types.void(planes, types.int64, out, types.int64)

    def generate(context: Any, builder: ir.IRBuilder, sig: Any, args: Any) -> Any:
        source = context.make_array(sig.args[0])(context, builder, args[0])
        target = context.make_array(sig.args[2])(context, builder, args[2])

        def mask(order: list[int]) -> ir.Value:
            return ir.Constant(ir.VectorType(ir.IntType(32), len(order)), order)

        rows = [
            builder.load(
                _vector(builder, source.data, builder.add(args[1], ir.Constant(ir.IntType(64), c * LANES)), LANES),
                align=4,
            )
            for c in range(4)
        ]
        both = mask(list(range(2 * LANES)))
        red_green, blue_alpha = (builder.shuffle_vector(rows[c], rows[c + 1], both) for c in (0, 2))
        order = [c * LANES + i for i in range(LANES) for c in range(4)]
        pixels = builder.shuffle_vector(red_green, blue_alpha, mask(order))
        builder.store(pixels, _vector(builder, target.data, args[3], 4 * LANES), align=4)
        return context.get_dummy_value()

    return signature, generate


@intrinsic
def deinterleave(typingctx, pixels, at, planes, offset):  # type: ignore[no-untyped-def]  # noqa: ARG001
    """Copy eight interleaved pixels at `at` of a flat array to the group at `offset` of a flat array of planes."""
    signature = types.void(pixels, types.int64, planes, types.int64)

    def generate(context: Any, builder: ir.IRBuilder, sig: Any, args: Any) -> Any:
        source = context.make_array(sig.args[0])(context, builder, args[0])
        target = context.make_array(sig.args[2])(context, builder, args[2])
        pixels = builder.load(_vector(builder, source.data, args[1], 4 * LANES), align=4)
        for c in range(4):
            mask = ir.Constant(ir.VectorType(ir.IntType(32), LANES), [4 * i + c for i in range(LANES)])
            plane = builder.shuffle_vector(pixels, pixels, mask)
            at = builder.add(args[3], ir.Constant(ir.IntType(64), c * LANES))
            builder.store(plane, _vector(builder, target.data, at, LANES), align=4)
        return context.get_dummy_value()

    return signature, generate
