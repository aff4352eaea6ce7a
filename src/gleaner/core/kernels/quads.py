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

SHORT, LONG = 8, 16
"""Items in a register of 256 bits, and of 512. Long registers slow the whole core down for a while: worth it for a walk
of many milliseconds, and not for one after which the answer takes longer than the walk."""

BYTE, PAIR, WORD = ir.IntType(8), ir.IntType(16), ir.IntType(32)


def _vector(element: ir.Type, count: int) -> ir.VectorType:
    return ir.VectorType(element, count)


class Fused:
    """One instruction for each register of codes (AVX-512 VNNI). lanes: items in a register."""

    def __init__(self, lanes: int) -> None:
        self.lanes = lanes

    @property
    def words(self) -> ir.VectorType:
        """A register of sums."""
        return _vector(WORD, self.lanes)

    @property
    def bytes(self) -> ir.VectorType:
        """A register of codes."""
        return _vector(BYTE, 4 * self.lanes)

    def everywhere(self, builder: Any, word: ir.Value) -> ir.Value:
        """A word in every lane."""
        nothing = ir.Constant(self.words, ir.Undefined)
        first = builder.insert_element(nothing, word, ir.Constant(WORD, 0))
        return builder.shuffle_vector(first, nothing, ir.Constant(self.words, [0] * self.lanes))

    def codes(self, builder: Any, read: ir.Value) -> Any:
        """Codes as `add` takes them."""
        return read

    def weights(self, builder: Any, word: ir.Value) -> Any:
        """The four weights of a word, for every lane, as `add` takes them."""
        return builder.bitcast(self.everywhere(builder, word), self.bytes)

    def add(self, builder: Any, total: ir.Value, codes: Any, weights: Any) -> ir.Value:
        """Sums with the products of codes and weights added."""
        kind = ir.FunctionType(self.words, [self.words, self.bytes, self.bytes])
        name = f"llvm.x86.avx512.vpdpbusd.{32 * self.lanes}"
        return builder.call(cgutils.get_or_insert_function(builder.module, kind, name), [total, codes, weights])


class FusedPairs(Fused):
    """Two instructions: of the even bytes and of the odd ones, as sixteen bits each (AVX2, of short registers only)."""

    @property
    def pairs(self) -> ir.VectorType:
        """A register of halves of words."""
        return _vector(PAIR, 2 * self.lanes)

    def codes(self, builder: Any, read: ir.Value) -> Any:
        pairs, whole, above = builder.bitcast(read, self.pairs), self._same(255), self._same(8)
        return builder.and_(pairs, whole), builder.lshr(pairs, above)

    def weights(self, builder: Any, word: ir.Value) -> Any:
        pairs, above = builder.bitcast(self.everywhere(builder, word), self.pairs), self._same(8)
        return builder.ashr(builder.shl(pairs, above), above), builder.ashr(pairs, above)

    def add(self, builder: Any, total: ir.Value, codes: Any, weights: Any) -> ir.Value:
        kind = ir.FunctionType(self.words, [self.pairs, self.pairs])
        products = cgutils.get_or_insert_function(builder.module, kind, "llvm.x86.avx2.pmadd.wd")
        for code, weight in zip(codes, weights, strict=True):
            total = builder.add(total, builder.call(products, [code, weight]))
        return total

    def _same(self, number: int) -> ir.Constant:
        return ir.Constant(self.pairs, [number] * 2 * self.lanes)


class Plain(Fused):
    """Each byte of the lanes by itself, on any processor."""

    def codes(self, builder: Any, read: ir.Value) -> Any:
        words, whole = builder.bitcast(read, self.words), self._same(255)
        return [builder.and_(builder.lshr(words, self._same(8 * place)), whole) for place in range(4)]

    def weights(self, builder: Any, word: ir.Value) -> Any:
        words, top = self.everywhere(builder, word), self._same(24)
        return [builder.ashr(builder.shl(words, self._same(24 - 8 * place)), top) for place in range(4)]

    def add(self, builder: Any, total: ir.Value, codes: Any, weights: Any) -> ir.Value:
        for code, weight in zip(codes, weights, strict=True):
            total = builder.add(total, builder.mul(code, weight))
        return total

    def _same(self, number: int) -> ir.Constant:
        return ir.Constant(self.words, [number] * self.lanes)


def ways() -> list[tuple[Fused, Fused]]:
    """What this processor can do, the best first: for one user, and for four."""
    plain = Plain(SHORT), Plain(SHORT)
    if any(getattr(config, name, None) is not None for name in ("CPU_NAME", "CPU_FEATURES")):
        # compiled for another than this
        return [plain]
    has = binding.get_host_cpu_features().get
    count: list[tuple[Fused, Fused]] = []
    if has("avx512vnni") and has("avx512vl"):
        count.append((Fused(SHORT), Fused(LONG)))
    if has("avx2"):
        count.append((FusedPairs(SHORT), FusedPairs(SHORT)))
    return [*count, plain]


def _tile(how: Fused, users: int, tiles: int) -> Any:
    """The products of some users with `tiles` registers of items, in registers over all their quads."""

    def emit(builder: Any, codes: Any, weights: Any, first: Any, last: Any, totals: Any) -> None:
        def number(value: int) -> ir.Constant:
            return ir.Constant(first.type, value)

        def at(pointer: Any, offset: Any, kind: ir.Type) -> Any:
            return builder.bitcast(builder.gep(pointer, [offset]), kind.as_pointer())

        def read(pointer: Any, align: int) -> Any:
            reached = builder.load(pointer)
            reached.align = align
            return reached

        places = [
            [at(totals, number(u * BLOCK + t * how.lanes), how.words) for t in range(tiles)] for u in range(users)
        ]
        begun = [[read(place, 4) for place in row] for row in places]
        entry, loop, end = builder.block, builder.append_basic_block("quad"), builder.append_basic_block("end")
        builder.branch(loop)
        builder.position_at_end(loop)
        quad = builder.phi(first.type)
        quad.add_incoming(first, entry)
        sums = [[builder.phi(how.words) for _ in range(tiles)] for _ in range(users)]
        start = builder.mul(quad, number(4 * BLOCK))
        bytes_of = [
            how.codes(builder, read(at(codes, builder.add(start, number(4 * how.lanes * t)), how.bytes), 1))
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
        for row, reached in zip(places, begun, strict=True):
            for place, total in zip(row, reached, strict=True):
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


def kernels(one: Fused, several: Fused) -> tuple[Any, Any]:
    """Two compiled functions (codes, block, weights, first, last, totals): to totals int32 (users, BLOCK) they add
    the products of a block of codes, uint8 (n_blocks, n_quads * BLOCK * 4), with weights int8 seen as int32
    (n_quads * users,), over the quads from first up to last. The one is for one user, the other for four."""
    alone, four = _tile(one, 1, 128 // one.lanes), _tile(several, 4, 4)
    of_four = 4 * several.lanes

    @njit(nogil=True)
    def add_of_one(codes, block, weights, first, last, totals):
        if first < last:
            for item in range(0, BLOCK, 128):
                alone(codes, block, weights, first, last, totals, item)

    @njit(nogil=True)
    def add_of_four(codes, block, weights, first, last, totals):
        if first < last:
            for item in range(0, BLOCK, of_four):
                four(codes, block, weights, first, last, totals, item)

    return add_of_one, add_of_four


add_of_one, add_of_four = kernels(*ways()[0])
