"""From Python into machine code: arguments are laid out as the code takes them, with nothing compiled for it.

numba compiles a way in for each signature, which took a tenth of all compiling and as many files again on disk. Code
takes an array as seven and more plain values, a tuple as its elements, and hands its result back through a pointer;
ctypes can do that, and lets go of Python's lock meanwhile. It takes some 30 microseconds a call longer, so that a
kernel which is called often gets numba's way after all.
"""

import ctypes
from collections.abc import Callable
from typing import Any

import numpy as np
from numba.core import types
from numba.np.numpy_support import as_dtype

__all__ = ["look", "way_in"]

_ENDED = (0, -2)
"""What code says that came to its end, with a result or with None; everything else is an error in it."""


def look(value: Any) -> Any:
    """What a value's type depends on, for a dictionary: quicker to tell than the type itself.

    Parameters
    ----------
    value : any
        An argument.
    """
    if isinstance(value, np.ndarray):
        return value.dtype, value.ndim, value.flags.num & 0x103  # how it lies in memory, and whether aligned
    kind = type(value)
    if kind is tuple:
        return tuple(map(look, value))
    if kind is int and not -(1 << 63) <= value < 1 << 63:
        return np.uint64
    return kind


def way_in(address: int, kinds: tuple, returned: types.Type) -> Callable:
    """A function of Python's that calls machine code.

    Parameters
    ----------
    address : int
        Of the code, compiled by numba's convention of calling.
    kinds : tuple of numba types
        Of the arguments: arrays, numbers, truth values, and tuples of these.
    returned : numba type
        None, a number, a truth value, or a tuple of these.

    Returns
    -------
    callable
        Takes the arguments; whoever calls it has made sure that they are of these types.
    """
    taken: list[Any] = [ctypes.c_void_p, ctypes.c_void_p]
    for kind in kinds:
        _lay_out(kind, taken)
    code = ctypes.CFUNCTYPE(ctypes.c_int32, *taken)(address)
    holder, read = _held(returned)
    is_plain = not isinstance(returned, types.BaseTuple)
    by_reference, nothing = ctypes.byref, ctypes.c_void_p

    def call(*args: Any) -> Any:
        values: list[Any] = []
        for one in args:
            _take_apart(one, values)
        held, error = holder(), nothing()
        if code(by_reference(held), by_reference(error), *values) not in _ENDED:
            raise RuntimeError("a kernel ended with an error of its own")
        return read(held.value if is_plain else held)

    return call


def _lay_out(kind: types.Type, taken: list[Any]) -> None:
    if isinstance(kind, types.Array):  # two holders, elements, bytes of one, place, then extents and strides
        taken += [ctypes.c_void_p] * 2 + [ctypes.c_ssize_t] * 2 + [ctypes.c_void_p]
        taken += [ctypes.c_ssize_t] * (2 * kind.ndim)
    elif isinstance(kind, types.BaseTuple):
        for one in kind.types:
            _lay_out(one, taken)
    else:
        taken.append(_number(kind))


def _take_apart(value: Any, values: list[Any]) -> None:
    if isinstance(value, np.ndarray):
        values += (None, None, value.size, value.itemsize, value.ctypes.data, *value.shape, *value.strides)
    elif isinstance(value, tuple):
        for one in value:
            _take_apart(one, values)
    else:
        values.append(value.item() if isinstance(value, np.generic) else value)


def _number(kind: types.Type) -> Any:
    return np.ctypeslib.as_ctypes_type(as_dtype(kind))


def _held(kind: types.Type) -> tuple[Any, Callable]:
    """What a result is written into, and what makes a value of Python's of what ctypes gives for it."""
    if kind == types.none:
        return ctypes.c_void_p, lambda value: None
    if not isinstance(kind, types.BaseTuple):
        return _number(kind), lambda value: value
    parts = [_held(one) for one in kind.types]
    readers = [(f"at{i}", read) for i, (_, read) in enumerate(parts)]
    fields = [(name, holder) for (name, _), (holder, _) in zip(readers, parts, strict=True)]
    made = type("Held", (ctypes.Structure,), {"_fields_": fields})
    return made, lambda value: tuple([read(getattr(value, name)) for name, read in readers])
