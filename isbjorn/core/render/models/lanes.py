"""Sixteen samples of a pixel at once: vector instructions for spans of faces and for the nearest face at each sample."""

from __future__ import annotations

from typing import Any

import numpy as np
from llvmlite import ir
from numba import types
from numba.extending import intrinsic

SAMPLES = 16
# Places of the samples in a pixel, to the right and down, in (0, 1): the Hammersley set, one on each of 16 lines.
DOWN = ((np.arange(SAMPLES) + 0.5) / SAMPLES).astype(np.float32)
RIGHT = ((np.array([int(f"{k:04b}"[::-1], 2) for k in range(SAMPLES)]) + 0.5) / SAMPLES).astype(np.float32)
# Farther away than anything, and beyond any picture.
NOTHING, FAR = -1e30, 1e9
# Rows of `lane`: where the spans begin and end; nearness of each sample above that of the pixel's corner; then four numbers of the
# row: where the first span begins and the last ends, and from where to where all samples are covered.
BEGIN, END, STEP, ROW, LANE_ROWS = 0, 1, 2, 3, 4
_REAL, _WHOLE = ir.FloatType(), ir.IntType(32)
_REALS, _WHOLES = ir.VectorType(_REAL, SAMPLES), ir.VectorType(_WHOLE, SAMPLES)
_FAST = ("nnan", "ninf", "nsz", "contract")


def _all(value: float) -> ir.Constant:
    return ir.Constant(_REALS, [value] * SAMPLES)


def _splat(builder: ir.IRBuilder, scalar: ir.Value, kind: ir.VectorType) -> ir.Value:
    none = ir.Constant(kind, ir.Undefined)
    one = builder.insert_element(none, scalar, ir.Constant(_WHOLE, 0))
    return builder.shuffle_vector(one, none, ir.Constant(_WHOLES, [0] * SAMPLES))


def _at(builder: ir.IRBuilder, data: ir.Value, first: Any, kind: ir.VectorType) -> ir.Value:
    return builder.bitcast(builder.gep(data, [first]), kind.as_pointer())


def _index(k: int) -> ir.Constant:
    return ir.Constant(ir.IntType(64), k)


@intrinsic
def _spans(typingctx, edges, count, low, high, y, lane):  # type: ignore[no-untyped-def]  # noqa: ARG001
    """Spans of a convex face on the sample lines of a row of pixels, into `lane`.

    edges (count, 4) float32: place to the right at a line, slope, that line, and 1 where the edge begins the face, 0 where it ends
    it; from low to high: its lines; y: the row.
    """
    signature = types.void(edges, types.int64, types.float32, types.float32, types.float32, lane)

    def generate(context: Any, builder: ir.IRBuilder, sig: Any, args: Any) -> Any:
        table = context.make_array(sig.args[0])(context, builder, args[0]).data
        out = context.make_array(sig.args[5])(context, builder, args[5]).data
        line = builder.fadd(_splat(builder, args[4], _REALS), ir.Constant(_REALS, [float(v) for v in DOWN]))
        inside = builder.and_(
            builder.fcmp_ordered("<=", _splat(builder, args[2], _REALS), line),
            builder.fcmp_ordered("<", line, _splat(builder, args[3], _REALS)),
        )
        begin = builder.alloca(_REALS)
        end = builder.alloca(_REALS)
        builder.store(builder.select(inside, _all(-FAR), _all(FAR)), begin)
        builder.store(_all(FAR), end)
        head, body, done = (builder.append_basic_block(name) for name in ("edge", "edge.body", "edge.done"))
        entry = builder.block
        builder.branch(head)
        builder.position_at_end(head)
        k = builder.phi(ir.IntType(64))
        k.add_incoming(_index(0), entry)
        builder.cbranch(builder.icmp_signed("<", k, args[1]), body, done)
        builder.position_at_end(body)
        place, slope, first, begins = (
            builder.load(builder.gep(table, [builder.add(builder.mul(k, _index(4)), _index(c))])) for c in range(4)
        )
        away = builder.fsub(line, _splat(builder, first, _REALS))
        x = builder.fadd(_splat(builder, place, _REALS), builder.fmul(_splat(builder, slope, _REALS), away))
        starts = builder.fcmp_ordered(">", begins, ir.Constant(_REAL, 0.5))
        old = builder.load(begin)
        more = builder.select(builder.fcmp_ordered(">", x, old, flags=_FAST), x, old)
        builder.store(builder.select(starts, more, old), begin)
        old = builder.load(end)
        less = builder.select(builder.fcmp_ordered("<", x, old, flags=_FAST), x, old)
        builder.store(builder.select(starts, old, less), end)
        k.add_incoming(builder.add(k, _index(1)), builder.block)
        builder.branch(head)
        builder.position_at_end(done)
        shift = ir.Constant(_REALS, [float(v) for v in RIGHT])
        a, b = builder.fsub(builder.load(begin), shift), builder.fsub(builder.load(end), shift)
        builder.store(a, _at(builder, out, _index(BEGIN * SAMPLES), _REALS), align=4)
        builder.store(b, _at(builder, out, _index(END * SAMPLES), _REALS), align=4)
        there = builder.fcmp_ordered("<", a, b)
        edges_of = {"min": builder.select(there, a, _all(FAR)), "max": builder.select(there, b, _all(-FAR))}
        found = [_reduced(builder, edges_of["min"], "fmin"), _reduced(builder, edges_of["max"], "fmax")]
        found += [_reduced(builder, a, "fmax"), _reduced(builder, b, "fmin")]
        for c, value in enumerate(found):
            builder.store(value, builder.gep(out, [_index(ROW * SAMPLES + c)]))
        return context.get_dummy_value()

    return signature, generate


def _reduced(builder: ir.IRBuilder, vector: ir.Value, by: str) -> ir.Value:
    name = f"llvm.vector.reduce.{by}.v{SAMPLES}f32"
    function = builder.module.globals.get(name)
    if function is None:
        function = ir.Function(builder.module, ir.FunctionType(_REAL, [_REALS]), name)
    return builder.call(function, [vector], fastmath=("nnan",))


@intrinsic
def _nearest(typingctx, near, names, offset, lane, at, depth, name, fresh):  # type: ignore[no-untyped-def]  # noqa: ARG001
    """Take a face into the samples of one pixel, from `offset` of near (float32) and names (int32) on, where it is nearer.

    lane: see `spans`. at: the pixel's place to the right; depth: nearness at its corner; fresh: nothing is in the pixel yet.
    """
    signature = types.void(near, names, types.int64, lane, types.float32, types.float32, types.int32, types.boolean)

    def generate(context: Any, builder: ir.IRBuilder, sig: Any, args: Any) -> Any:
        data = [context.make_array(sig.args[k])(context, builder, args[k]).data for k in (0, 1, 3)]
        begin, end, step = (
            builder.load(_at(builder, data[2], _index(k * SAMPLES), _REALS), align=4) for k in (BEGIN, END, STEP)
        )
        near_at, name_at = _at(builder, data[0], args[2], _REALS), _at(builder, data[1], args[2], _WHOLES)
        fresh = builder.trunc(args[7], ir.IntType(1)) if args[7].type.width > 1 else args[7]
        old_near = builder.select(fresh, _all(NOTHING), builder.load(near_at, align=4))
        old_name = builder.select(fresh, ir.Constant(_WHOLES, [-1] * SAMPLES), builder.load(name_at, align=4))
        place = _splat(builder, args[4], _REALS)
        mine = builder.fadd(_splat(builder, args[5], _REALS), step)
        hit = builder.and_(builder.fcmp_ordered("<=", begin, place), builder.fcmp_ordered("<", place, end))
        hit = builder.and_(hit, builder.fcmp_ordered(">", mine, old_near))
        builder.store(builder.select(hit, mine, old_near), near_at, align=4)
        builder.store(builder.select(hit, _splat(builder, args[6], _WHOLES), old_name), name_at, align=4)
        return context.get_dummy_value()

    return signature, generate


@intrinsic
def _alike(typingctx, names, offset, name):  # type: ignore[no-untyped-def]  # noqa: ARG001
    """The samples of a pixel, from `offset` of names (int32) on, that have a name: a bit each."""
    signature = types.int32(names, types.int64, types.int32)

    def generate(context: Any, builder: ir.IRBuilder, sig: Any, args: Any) -> Any:
        data = context.make_array(sig.args[0])(context, builder, args[0]).data
        there = builder.load(_at(builder, data, args[1], _WHOLES), align=4)
        same = builder.icmp_signed("==", there, _splat(builder, args[2], _WHOLES))
        return builder.zext(builder.bitcast(same, ir.IntType(SAMPLES)), _WHOLE)

    return signature, generate


@intrinsic
def _bits_of(typingctx, mask):  # type: ignore[no-untyped-def]  # noqa: ARG001
    """How many bits of an int32 are set."""

    def generate(context: Any, builder: ir.IRBuilder, sig: Any, args: Any) -> Any:  # noqa: ARG001
        return builder.ctpop(args[0])

    return types.int32(types.int32), generate


@intrinsic
def _first_bit(typingctx, mask):  # type: ignore[no-untyped-def]  # noqa: ARG001
    """The place of the lowest bit that is set in an int32 other than 0."""

    def generate(context: Any, builder: ir.IRBuilder, sig: Any, args: Any) -> Any:  # noqa: ARG001
        return builder.cttz(args[0], ir.Constant(ir.IntType(1), 1))

    return types.int32(types.int32), generate


spans: Any = _spans
nearest: Any = _nearest
alike: Any = _alike
bits_of: Any = _bits_of
first_bit: Any = _first_bit
