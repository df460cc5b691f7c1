"""Compiled kernels: one decorator, compiled at their first call and kept on disk for all later ones.

`dispatch` tells signatures apart and lets kernels call each other, `lean` is the way from Python to machine code,
`store` keeps what was compiled, and `recorded` knows the signatures that are used, for those who compile ahead.
"""

import os

# error messages of numba are for those who write kernels; colouring them costs a twentieth of each compilation
os.environ.setdefault("NUMBA_DISABLE_ERROR_MESSAGE_HIGHLIGHTING", "1")

from tinsnip.kernels.dispatch import Kernel, is_compiling, kernel, registered, wait_with

__all__ = ["Kernel", "is_compiling", "kernel", "registered", "wait_with"]
