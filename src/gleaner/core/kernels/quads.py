"""Products of codes with weights in whole numbers, four factors at a time for a register of items.

A dot product of four unsigned with four signed bytes, added to a 32-bit lane, is one instruction of many processors
and some of plain arithmetic on others; the result is the same to the last bit. Compilers do not find it in a loop over
columns, so it is written down here for LLVM.
"""

from __future__ import annotations

from typing import Any

from llvmlite import binding, ir
from numba import njit, types
from numba.core import cgutils, config
from numba.extending import intrinsic

BLOCK = 256
"""Items looked at together."""

LANES = 8
"""Registers of 256 bits. Those of 512 slow the whole core down for a while, and what follows a list takes longer than
the list."""

BYTE, PAIR, WORD = ir.IntType(8), ir.IntType(16), ir.IntType(32)


def _vector(element: ir.Type, count: int = LANES) -> ir.VectorType:
    return ir.VectorType(element, count)


def _everywhere(builder: Any, word: ir.Value) -> ir.Value:
    """A word in every lane."""
    nothing = ir.Constant(_vector(WORD), ir.Undefined)
    first = builder.insert_element(nothing, word, ir.Constant(WORD, 0))
    return builder.shuffle_vector(first, nothing, ir.Constant(_vector(WORD), [0] * LANES))


class Fused:
    """One instruction for each register of codes (AVX-512 VNNI, on registers of 256 bits)."""

    def codes(self, builder: Any, read: ir.Value) -> Any:
        return read

    def weights(self, builder: Any, word: ir.Value) -> Any:
        return builder.bitcast(_everywhere(builder, word), _vector(BYTE, 4 * LANES))

    def add(self, builder: Any, total: ir.Value, codes: Any, weights: Any) -> ir.Value:
        kind = ir.FunctionType(_vector(WORD), [_vector(WORD), _vector(BYTE, 4 * LANES), _vector(BYTE, 4 * LANES)])
        fused = cgutils.get_or_insert_function(builder.module, kind, "llvm.x86.avx512.vpdpbusd.256")
        return builder.call(fused, [total, codes, weights])


class Pairs(Fused):
    """Two instructions: of the even bytes and of the odd ones, as sixteen bits each (AVX2)."""

    def codes(self, builder: Any, read: ir.Value) -> Any:
        pairs, whole, above = builder.bitcast(read, _vector(PAIR, 2 * LANES)), self._same(255), self._same(8)
        return builder.and_(pairs, whole), builder.lshr(pairs, above)

    def weights(self, builder: Any, word: ir.Value) -> Any:
        pairs, above = builder.bitcast(_everywhere(builder, word), _vector(PAIR, 2 * LANES)), self._same(8)
        return builder.ashr(builder.shl(pairs, above), above), builder.ashr(pairs, above)

    def add(self, builder: Any, total: ir.Value, codes: Any, weights: Any) -> ir.Value:
        kind = ir.FunctionType(_vector(WORD), [_vector(PAIR, 2 * LANES)] * 2)
        products = cgutils.get_or_insert_function(builder.module, kind, "llvm.x86.avx2.pmadd.wd")
        for code, weight in zip(codes, weights, strict=True):
            total = builder.add(total, builder.call(products, [code, weight]))
        return total

    @staticmethod
    def _same(number: int) -> ir.Constant:
        return ir.Constant(_vector(PAIR, 2 * LANES), [number] * 2 * LANES)


class Plain(Fused):
    """Each byte of the lanes by itself, on any processor."""

    def codes(self, builder: Any, read: ir.Value) -> Any:
        words, whole = builder.bitcast(read, _vector(WORD)), self._same(255)
        return [builder.and_(builder.lshr(words, self._same(8 * place)), whole) for place in range(4)]

    def weights(self, builder: Any, word: ir.Value) -> Any:
        words, top = _everywhere(builder, word), self._same(24)
        return [builder.ashr(builder.shl(words, self._same(24 - 8 * place)), top) for place in range(4)]

    def add(self, builder: Any, total: ir.Value, codes: Any, weights: Any) -> ir.Value:
        for code, weight in zip(codes, weights, strict=True):
            total = builder.add(total, builder.mul(code, weight))
        return total

    @staticmethod
    def _same(number: int) -> ir.Constant:
        return ir.Constant(_vector(WORD), [number] * LANES)


def ways() -> list[Fused]:
    """What this processor can do, the best first."""
    if any(getattr(config, name, None) is not None for name in ("CPU_NAME", "CPU_FEATURES")):
        # compiled for another than this
        return [Plain()]
    features = binding.get_host_cpu_features()
    needed = (Fused(), ("avx512vnni", "avx512vl")), (Pairs(), ("avx2",))
    return [*(way for way, those in needed if all(map(features.get, those))), Plain()]


def _tile(how: Fused, users: int, tiles: int) -> Any:
    """The products of some users with LANES * tiles items, in registers over all their quads."""

    def emit(builder: Any, codes: Any, weights: Any, first: Any, last: Any, totals: Any) -> None:
        def number(value: int) -> ir.Constant:
            return ir.Constant(first.type, value)

        def at(pointer: Any, offset: Any, kind: ir.Type) -> Any:
            return builder.bitcast(builder.gep(pointer, [offset]), kind.as_pointer())

        def read(pointer: Any, align: int) -> Any:
            found = builder.load(pointer)
            found.align = align
            return found

        places = [
            [at(totals, number(u * BLOCK + t * LANES), _vector(WORD)) for t in range(tiles)] for u in range(users)
        ]
        begun = [[read(place, 4) for place in row] for row in places]
        entry, loop, end = builder.block, builder.append_basic_block("quad"), builder.append_basic_block("end")
        builder.branch(loop)
        builder.position_at_end(loop)
        quad = builder.phi(first.type)
        quad.add_incoming(first, entry)
        sums = [[builder.phi(_vector(WORD)) for _ in range(tiles)] for _ in range(users)]
        start = builder.mul(quad, number(4 * BLOCK))
        bytes_of = [
            how.codes(builder, read(at(codes, builder.add(start, number(4 * LANES * t)), _vector(BYTE, 4 * LANES)), 1))
            for t in range(tiles)
        ]
        following = builder.add(quad, number(1))
        quad.add_incoming(following, loop)
        for u in range(users):
            word = read(builder.gep(weights, [builder.add(builder.mul(quad, number(users)), number(u))]), 4)
            weighed = how.weights(builder, word)
            for t in range(tiles):
                more = how.add(builder, sums[u][t], bytes_of[t], weighed)
                sums[u][t].add_incoming(begun[u][t], entry)
                sums[u][t].add_incoming(more, loop)
                begun[u][t] = more
        builder.cbranch(builder.icmp_signed("<", following, last), loop, end)
        builder.position_at_end(end)
        for row, found in zip(places, begun, strict=True):
            for place, total in zip(row, found, strict=True):
                builder.store(total, place).align = 4

    @intrinsic
    def tile(typing, codes, block, weights, first, last, totals, item):
        """Of a block, from the quad `first` up to `last`, which is more."""

        def generate(context, builder, signature, given):
            arrays = {
                place: context.make_array(kind)(context, builder, value)
                for place, (kind, value) in enumerate(zip(signature.args, given, strict=True))
                if isinstance(kind, types.Array)
            }
            block, first, last, item = given[1], given[3], given[4], given[6]
            # rows of codes lie one behind the other
            length = cgutils.unpack_tuple(builder, arrays[0].shape)[1]
            start = builder.add(builder.mul(block, length), builder.mul(item, ir.Constant(item.type, 4)))
            places = builder.gep(arrays[5].data, [item])
            emit(builder, builder.gep(arrays[0].data, [start]), arrays[2].data, first, last, places)
            return context.get_dummy_value()

        return types.void(codes, types.intp, weights, types.intp, types.intp, totals, types.intp), generate

    return tile


def kernels(how: Fused) -> tuple[Any, Any]:
    """Two compiled functions (codes, block, weights, first, last, totals): to totals int32 (users * BLOCK,) they add
    the products of a block of codes, uint8 (n_blocks, n_quads * BLOCK * 4), with weights int8 seen as int32
    (n_quads * users,), over the quads from first up to last. The one is for one user, the other for four."""
    alone, four = _tile(how, 1, 16), _tile(how, 4, 4)

    @njit(nogil=True)
    def add_of_one(codes, block, weights, first, last, totals):
        if first < last:
            for item in range(0, BLOCK, 16 * LANES):
                alone(codes, block, weights, first, last, totals, item)

    @njit(nogil=True)
    def add_of_four(codes, block, weights, first, last, totals):
        if first < last:
            for item in range(0, BLOCK, 4 * LANES):
                four(codes, block, weights, first, last, totals, item)

    return add_of_one, add_of_four


add_of_one, add_of_four = kernels(ways()[0])
