"""Dense products that never leave the vector registers, written down as vector instructions.

Only with explicit vectors do all sums stay in registers; every operand that is loaded again on the way costs a
slot that the multiply-add units then lack.
"""

from collections.abc import Callable

from llvmlite import binding, ir
from numba import types
from numba.core import cgutils
from numba.extending import intrinsic

ORDER = 3
"""Rows and columns of the small matrices: two blocks of 3 x 3 vectors and one of scalars fill 27 of 32 registers."""

BLOCK_VECTORS = 2 * ORDER * ORDER
"""Vectors of the two blocks: X, then Y, each column by column."""

TILE_VECTORS = BLOCK_VECTORS + 1
"""Vectors of one tile: the blocks, then the sum of what Y was at every turning point."""


def vector_bytes() -> int:
    """Return the width in bytes of the widest vectors that this processor and its kernel offer."""
    features = binding.get_host_cpu_features()
    if features.get("avx512f"):
        return 64
    return 32 if features.get("avx") else 16


def fuses() -> bool:
    """Whether the processor multiplies and adds in one step."""
    return bool(binding.get_host_cpu_features().get("fma"))


def lifting_tile(element_bytes: int) -> Callable[..., int]:
    """Return an intrinsic that takes a tile there and back by dense products; 8 bytes for doubles, 4 for singles.

    Arguments are addresses: the tile (19 vectors), the matrices ([count][2][3][3] scalars, A and then -A), their
    count, and where the result goes. For each A, in whole numbers small enough that every sum is exact:

        Y += A X;  X += A Y;  Y += A X;  then back with -A:  Y -= A X;  X -= A Y;  Y -= A X

    so that the blocks come out as they went in, whatever the matrices, on any kind of core. A multiplier that is wrong
    in the same way each time would undo its own error, so Y as it is at the turning points is summed up too, bit by
    bit without carry, and compared with the known sum. Returns the bits by which any word of the result differs from
    the tile, or-ed together."""
    width = vector_bytes()
    lanes = width // element_bytes
    element: ir.Type = ir.DoubleType() if element_bytes == 8 else ir.FloatType()
    vector = ir.VectorType(element, lanes)
    words = ir.VectorType(ir.IntType(64), width // 8)
    fused = fuses()

    @intrinsic
    def lift(typing: object, tile: object, matrices: object, count: object, out: object) -> object:
        signature = types.int64(*[types.intp] * 4)

        def codegen(_context: object, builder: ir.IRBuilder, _signature: object, args: list[ir.Value]) -> ir.Value:
            tile_at, matrices_at, many, out_at = args
            index_type = many.type
            fma = cgutils.get_or_insert_function(
                builder.module, ir.FunctionType(vector, [vector] * 3), f"llvm.fma.v{lanes}f{element_bytes * 8}"
            )

            def at(base: ir.Value, offset: int, kind: ir.Type) -> ir.Value:
                return builder.inttoptr(builder.add(base, ir.Constant(index_type, offset)), kind.as_pointer())

            def step(scalars: list[ir.Value], source: list[ir.Value], target: list[ir.Value]) -> list[ir.Value]:
                """target += scalars . source, one multiply-add a register at a time, nine chains side by side."""
                new = list(target)
                for middle in range(ORDER):
                    for column in range(ORDER):
                        for row in range(ORDER):
                            place = column * ORDER + row
                            a, x = scalars[row * ORDER + middle], source[column * ORDER + middle]
                            if fused:
                                new[place] = builder.call(fma, [a, x, new[place]])
                            else:
                                new[place] = builder.fadd(builder.fmul(a, x), new[place])
                return new

            entry = builder.basic_block
            loop = builder.append_basic_block("matrix")
            after = builder.append_basic_block("after")
            first = [builder.load(at(tile_at, n * width, vector), align=element_bytes) for n in range(BLOCK_VECTORS)]
            builder.branch(loop)
            builder.position_at_end(loop)
            index = builder.phi(index_type)
            index.add_incoming(ir.Constant(index_type, 0), entry)
            carried = [builder.phi(vector) for _ in range(BLOCK_VECTORS)]
            summed = builder.phi(words)
            summed.add_incoming(ir.Constant(words, None), entry)
            for each, start in zip(carried, first, strict=True):
                each.add_incoming(start, entry)
            base = builder.add(
                matrices_at, builder.mul(index, ir.Constant(index_type, 2 * ORDER * ORDER * element_bytes))
            )
            undefined, zero = ir.Constant(vector, ir.Undefined), ir.Constant(ir.IntType(32), 0)
            mask = ir.Constant(ir.VectorType(ir.IntType(32), lanes), None)
            spread = []
            for n in range(2 * ORDER * ORDER):
                scalar = builder.load(at(base, n * element_bytes, element))
                spread.append(builder.shuffle_vector(builder.insert_element(undefined, scalar, zero), undefined, mask))
            there, back = spread[: ORDER * ORDER], spread[ORDER * ORDER :]
            x, y = carried[: ORDER * ORDER], carried[ORDER * ORDER :]
            y = step(there, x, y)
            x = step(there, y, x)
            y = step(there, x, y)
            turning: ir.Value = summed
            for each in y:
                turning = builder.xor(turning, builder.bitcast(each, words))
            y = step(back, x, y)
            x = step(back, y, x)
            y = step(back, x, y)
            following = builder.add(index, ir.Constant(index_type, 1))
            index.add_incoming(following, loop)
            for each, new in zip(carried, x + y, strict=True):
                each.add_incoming(new, loop)
            summed.add_incoming(turning, loop)
            builder.cbranch(builder.icmp_signed("<", following, many), loop, after)
            builder.position_at_end(after)
            wrong = ir.Constant(words, None)
            for n, value in enumerate([*(builder.bitcast(each, words) for each in x + y), turning]):
                builder.store(value, at(out_at, n * width, words), align=element_bytes)
                expected = builder.load(at(tile_at, n * width, words), align=element_bytes)
                wrong = builder.or_(wrong, builder.xor(value, expected))
            total = ir.Constant(ir.IntType(64), 0)
            for lane in range(width // 8):
                total = builder.or_(total, builder.extract_element(wrong, ir.Constant(ir.IntType(32), lane)))
            return total

        return signature, codegen

    return lift
