"""Tiles of numbers taken there and back by dense products in registers: the hottest form of the matrix load."""

from numba import njit

from thresher.loads.kernels.vectors import TILE_VECTORS, lifting_tile, vector_bytes

_TILE = TILE_VECTORS * vector_bytes()
_lift_doubles = lifting_tile(8)
_lift_singles = lifting_tile(4)
_SIGNATURE = "int64(intp, intp, intp, intp, intp)"


@njit(_SIGNATURE, cache=True)
def carry_doubles(tiles: int, many: int, matrices: int, count: int, out: int) -> int:
    """Take `many` tiles of doubles through `count` matrices; addresses as in `vectors.lifting_tile`.

    Returns the differing bits of all words or-ed together, 0 when every tile came back as it went in.
    """
    wrong = 0
    for number in range(many):
        wrong |= _lift_doubles(tiles + number * _TILE, matrices, count, out + number * _TILE)
    return wrong


@njit(_SIGNATURE, cache=True)
def carry_singles(tiles: int, many: int, matrices: int, count: int, out: int) -> int:
    """Do the same with singles."""
    wrong = 0
    for number in range(many):
        wrong |= _lift_singles(tiles + number * _TILE, matrices, count, out + number * _TILE)
    return wrong
