"""A dispatcher of our own over numba's: few signatures, and kernels that call each other by name.

numba compiles a kernel anew for each literal argument, each read-only array and each width of an integer, and links
what it calls into it, to optimise all of that again. Here arguments are told apart by what matters alone; a kernel of
some size is compiled once, and called.

This rests on private hooks of numba, whose version is pinned, and on one promise: no kernel writes into an array that
it was given as read-only, as nothing keeps it from doing so. What Python calls hands back numbers, never arrays.
"""

import gc
import hashlib
import os
import pickle
import threading
from collections.abc import Callable
from types import CodeType
from typing import Any

from numba import _dynfunc
from numba.core import serialize, types
from numba.core.compiler import CompileResult
from numba.core.compiler_lock import global_compiler_lock
from numba.core.errors import TypingError
from numba.core.registry import CPUDispatcher
from numba.core.runtime import rtsys

from tinsnip.kernels.calling import look, way_in
from tinsnip.kernels.lean import LeanCompiler, LeanLibrary
from tinsnip.kernels.store import Store, code_key

__all__ = ["Kernel", "is_compiling", "kernel", "plain", "registered", "store", "wait_with", "written"]

_LARGE = 60
"""Lines of LLVM's code from which a kernel is called instead of linked into its callers: well above what its optimiser
takes in by itself."""

_ALLOCATING = {
    "arange", "array", "ascontiguousarray", "concatenate", "copy", "empty", "empty_like", "flatten", "full",
    "full_like", "ones", "ravel", "reshape", "searchsorted", "sum", "view", "zeros", "zeros_like",
}  # fmt: skip
"""Names by which a kernel may come to an array that was not handed to it, which then has to be counted and let go."""

_HOT = 400
"""Calls from Python after which a kernel gets numba's own way in: that takes some 3 ms to fetch and 75 to compile, and
saves some 30 microseconds a call."""

store = Store()
_all: list["Kernel"] = []
_under_way = 0
_waiting: set[int] = set()
_waiter: Callable[["Kernel", tuple], None] | None = None
_log_path = os.environ.get("TINSNIP_KERNEL_LOG", "")
_calls = threading.local()


def plain(kind: types.Type) -> types.Type:
    """The type that stands for a type of argument: without literals, read-only flags and narrow integers.

    Parameters
    ----------
    kind : numba type
    """
    if isinstance(kind, types.Literal):
        kind = kind.literal_type
    if isinstance(kind, types.Array) and not kind.mutable:
        return kind.copy(readonly=False)
    if isinstance(kind, types.Integer) and kind not in (types.uint64, types.int64):
        return types.int64
    if isinstance(kind, types.BaseTuple) and not isinstance(kind, types.BaseNamedTuple):
        return types.BaseTuple.from_types([plain(one) for one in kind.types])
    return kind


def _holds_arrays(kind: types.Type) -> bool:
    return isinstance(kind, types.Array) or (
        isinstance(kind, types.BaseTuple) and any(_holds_arrays(one) for one in kind.types)
    )


def _names(code: CodeType) -> set[str]:
    return set(code.co_names).union(*(_names(one) for one in code.co_consts if isinstance(one, CodeType)))


class Kernel(CPUDispatcher):
    """A loop over bare arrays, as machine code that lets go of Python's lock."""

    def __init__(self, function: Callable) -> None:
        options = {
            "nopython": True,
            "nogil": True,
            "error_model": "numpy",
            "no_cpython_wrapper": True,
            "no_cfunc_wrapper": True,
            "_nrt": bool(_names(function.__code__) & _ALLOCATING),
        }
        super().__init__(function, {}, options, LeanCompiler)
        function.__kernel__ = self
        self.name = f"{function.__module__.removeprefix('tinsnip.')}.{function.__name__}"
        self.needs: dict[tuple, tuple] = {}
        self.is_apart: dict[tuple, bool] = {}
        self.is_kept = function.__module__.startswith("tinsnip.")
        """Whether it is found again by its name in another process."""
        self.compiled: list[tuple] = []
        """Signatures that were compiled in this process, and not fetched."""
        self._key = ""
        self._ways_in: dict[tuple, Callable] = {}
        self._ways_by_look: dict[tuple, Callable] = {}
        self._quick_ways: dict[tuple, Any] = {}
        self._calls, self._is_hot = 0, False

    @property
    def key(self) -> str:
        """What the machine code depends on, as a hash."""
        if not self._key:
            self._key = code_key(self.py_func)
        return self._key

    def entry(self, kinds: tuple) -> str:
        """The name of the entry that holds a signature."""
        return f"{self.name}-{self.key}-{code_of(kinds)}"

    def is_ready(self, kinds: tuple) -> bool:
        """Whether Python can call with arguments of these types without anything being compiled."""
        return kinds in self._ways_in or store.has(self.entry(kinds))

    def prepare(self, kinds: tuple) -> None:
        """Compile, or fetch, what is needed to call with arguments of these types."""
        self._way_in(kinds)

    def __call__(self, *args: Any) -> Any:
        if self._is_hot:
            return super().__call__(*args)
        self._calls += 1
        if self._calls > _HOT:
            self._become_hot()
        looks = tuple(map(look, args))
        way = self._ways_by_look.get(looks)
        if way is None:
            way = self._ways_by_look[looks] = self._way_in(tuple(map(self.typeof_pyval, args)))
        return way(*args)

    # what numba calls

    def typeof_pyval(self, val: Any) -> types.Type:
        return plain(super().typeof_pyval(val))

    def get_call_template(self, args: Any, kws: Any) -> Any:
        _, args = self._compiler.fold_argument_types(args, kws)
        kinds = tuple(plain(one) for one in args)
        found = super().get_call_template(kinds, {})
        calls = getattr(_calls, "made", None)
        if calls is not None:
            calls.add((self, kinds))
        return found

    def add_overload(self, cres: CompileResult) -> None:
        self.overloads[tuple(cres.signature.args)] = cres

    def compile(self, sig: Any) -> Any:
        """The code for a signature, from memory, from disk, or by compiling it."""
        kinds = tuple(sig.args) if hasattr(sig, "args") else tuple(sig)
        if kinds not in self.overloads:
            if not self.is_kept:
                self._compile_anew(kinds)
                return self.overloads[kinds].entry_point
            entry = self.entry(kinds)
            with store.turn(entry):
                kept = store.read(entry)
                if kept is None or not self._take_up(kinds, kept):
                    self._compile_anew(kinds)
                    store.write(entry, self._to_keep(kinds))
        return self.overloads[kinds].entry_point

    def _compile_for_args(self, *args: Any, **kws: Any) -> Any:
        """The way in for types that numba's table does not hold, of a kernel that is called often."""
        assert not kws
        kinds = tuple(map(self.typeof_pyval, args))
        if kinds not in self._quick_ways:  # else arrays are read-only, which numba tells apart
            self._way_in(kinds)
            with global_compiler_lock:
                self._quick_way_in(kinds)
        return self._quick_ways[kinds]

    # what is behind it

    def _way_in(self, kinds: tuple) -> Callable:
        if kinds not in self._ways_in:
            if _waiter is not None and not self.is_ready(kinds):
                _waiting.add(threading.get_ident())
                try:
                    _waiter(self, kinds)
                finally:
                    _waiting.discard(threading.get_ident())
            with global_compiler_lock:
                if kinds not in self._ways_in:
                    self._compilation_chain_init_hook()
                    self.compile(kinds)
                    self._make_way_in(kinds)
            self._types_active_call.clear()
        return self._ways_in[kinds]

    def _compile_anew(self, kinds: tuple) -> None:
        global _under_way
        outer = getattr(_calls, "made", None)
        collects = gc.isenabled()
        _under_way += 1
        gc.disable()  # types and instructions refer to each other all round: looking through them took a tenth
        try:
            if self.targetoptions["_nrt"] or not self._compile_uncounted(kinds):
                _calls.made = set()
                super().compile(kinds)
            called = sorted(_calls.made, key=lambda one: (one[0].name, str(one[1])))
        finally:
            _calls.made = outer
            _under_way -= 1
            if collects:
                gc.enable()
        self.compiled.append(kinds)
        result = self.overloads[kinds]
        function = result.library._final_module.get_function(result.fndesc.llvm_func_name)
        self.is_apart[kinds] = str(function).count("\n") >= _LARGE
        needs: set[tuple[Kernel, tuple]] = set()
        for other, signature in called:
            needs.update([(other, signature)] if other.is_apart[signature] else other.needs[signature])
        self.needs[kinds] = tuple(sorted(needs, key=lambda one: (one[0].name, str(one[1]))))
        self._make_known(kinds)

    def _compile_uncounted(self, kinds: tuple) -> bool:
        """Compile without code that counts who holds an array; False where arrays turn out to be made after all."""
        _calls.made = set()
        try:
            super().compile(kinds)
        except TypingError:
            is_handed_none = False
        else:
            results = [k.overloads[s] for k, s in _calls.made] + [self.overloads[kinds]]
            is_handed_none = not any(_holds_arrays(one.signature.return_type) for one in results)
        if not is_handed_none:
            self.targetoptions["_nrt"] = True
            self.overloads.pop(kinds, None)
            self._compiler._failed_cache.clear()
        return is_handed_none

    def _make_known(self, kinds: tuple) -> None:
        """Tell numba how others call this."""
        result = self.overloads[kinds]
        context = result.target_context
        libraries = () if self.is_apart[kinds] else (result.library,)
        context.remove_user_function(result.entry_point)
        context.insert_user_function(result.entry_point, result.fndesc, libraries)

    def _to_keep(self, kinds: tuple) -> bytes:
        result = self.overloads[kinds]
        result.fndesc.typemap = result.fndesc.calltypes = None
        needs = tuple((k.py_func.__module__, k.py_func.__name__, s) for k, s in self.needs[kinds])
        library = result.library
        shared = b"" if self.is_apart[kinds] else library._get_module_for_linking().as_bitcode()
        return serialize.dumps(
            (_machine_code(library), shared, result.fndesc, result.environment, result.signature, needs)
        )

    def _take_up(self, kinds: tuple, kept: bytes) -> bool:
        """Make what was kept callable; False where it cannot be."""
        code, shared, fndesc, environment, signature, needs = pickle.loads(kept)
        found = []
        for module, name, signature_needed in needs:
            other = next((k for k in _all if (k.py_func.__module__, k.py_func.__name__) == (module, name)), None)
            if other is None:
                return False
            other.compile(signature_needed)
            found.append((other, signature_needed))
        library = _brought_back(self.targetctx, fndesc.qualname, code, shared)
        entry_point = self.targetctx.get_executable(library, fndesc, environment)
        self.overloads[kinds] = CompileResult(
            typing_context=self.typingctx, target_context=self.targetctx, entry_point=entry_point, typing_error=None,
            type_annotation=None, signature=signature, objectmode=False, lifted=(), fndesc=fndesc, library=library,
            call_helper=None, environment=environment, metadata=None, reload_init=(), referenced_envs=(),
        )  # fmt: skip
        self.is_apart[kinds], self.needs[kinds] = not shared, tuple(found)
        libraries = () if not shared else (library,)
        self.targetctx.insert_user_function(entry_point, fndesc, libraries)
        return True

    def _make_way_in(self, kinds: tuple) -> None:
        result = self.overloads[kinds]
        address = result.target_context.codegen()._engine.get_function_address(result.fndesc.llvm_func_name)
        self._ways_in[kinds] = way_in(address, kinds, result.signature.return_type)
        if self.is_kept:
            _log(self, kinds)

    def _become_hot(self) -> None:
        """Python calls so often that numba's own way in, which has to be compiled, is worth its while."""
        with global_compiler_lock:
            for kinds in list(self._ways_in):
                self._quick_way_in(kinds)
            self._is_hot = True

    def _quick_way_in(self, kinds: tuple) -> Any:
        """The function by which Python calls at once: it takes arguments apart and lets go of Python's lock."""
        if kinds in self._quick_ways:
            return self._quick_ways[kinds]
        result = self.overloads[kinds]
        context = result.target_context
        entry = f"{self.entry(kinds)}-in"
        with store.turn(entry):
            kept = store.read(entry) if self.is_kept else None
            constants = result.environment.consts  # what it hands back is described there
            if kept is not None:
                code, wanted = pickle.loads(kept)
                constants.extend(wanted[len(constants) :])
                library = _brought_back(context, "way in", code, b"")
            else:
                library = LeanLibrary(context.codegen(), "way in")
                library.optimise = 1  # it only hands on
                library.enable_object_caching()
                with context.push_code_library(library):
                    context.create_cpython_wrapper(
                        library, result.fndesc, result.environment, result.call_helper, release_gil=True
                    )
                library.add_linking_library(rtsys.library)
                library.finalize()
                if self.is_kept:
                    store.write(entry, serialize.dumps((_machine_code(library), list(constants))))
        address = context.codegen()._engine.get_function_address(result.fndesc.llvm_cpython_wrapper_name)
        made = _function_at(result, address, library)
        self._insert([one._code for one in kinds], made, False)
        self._quick_ways[kinds] = made  # numba's table of them does not keep them alive
        return made


def _function_at(result: CompileResult, address: int, library: LeanLibrary) -> Any:
    """Machine code as a function that Python can call, which keeps the code alive."""
    fndesc = result.fndesc
    return _dynfunc.make_function(
        fndesc.lookup_module(), fndesc.qualname.split(".")[-1], "", address, result.environment, (library,)
    )


def _machine_code(library: LeanLibrary) -> bytes:
    symbols = [one.name for group in (library._final_module.functions, library._final_module.global_variables)
               for one in group if not one.is_declaration]  # fmt: skip
    return serialize.dumps((library._get_compiled_object(), symbols))


def _brought_back(context: Any, name: str, kept: bytes, shared: bytes) -> LeanLibrary:
    """A library from what was kept of it."""
    code, symbols = pickle.loads(kept)
    codegen = context.codegen()
    context.refresh()
    library = LeanLibrary(codegen, name)
    library.enable_object_caching()
    library._set_compiled_object(code)
    library.shared = shared
    library._finalize_final_module()
    codegen._engine._defined_symbols.update(symbols)
    return library


def code_of(kinds: tuple) -> str:
    """A signature as a hash."""
    return hashlib.sha256(str(kinds).encode()).hexdigest()[:12]


def written(one: "Kernel", kinds: tuple) -> str:
    """A signature as text: ``space.tree._swap(float32[:, ::1], int32[::1], int64)``.

    Parameters
    ----------
    one : Kernel
    kinds : tuple of numba types
        Of its arguments.
    """
    return f"{one.name}({', '.join(_written(kind) for kind in kinds)})"


def _written(kind: types.Type) -> str:
    if isinstance(kind, types.Array):
        sides = [":"] * kind.ndim
        if kind.layout == "C":
            sides[-1] = "::1"
        elif kind.layout == "F":
            sides[0] = "::1"
        return f"{kind.dtype}[{', '.join(sides)}]"
    if isinstance(kind, types.BaseTuple):
        return f"Tuple(({''.join(_written(one) + ', ' for one in kind.types)}))"
    return "boolean" if kind == types.boolean else str(kind)


def _log(one: Kernel, kinds: tuple) -> None:
    """Note with which types Python calls, for those who record it."""
    if _log_path:
        with open(_log_path, "a", encoding="utf-8") as file:
            file.write(f"{written(one, kinds)}\n")


def kernel(function: Callable) -> Any:
    """Compile a loop over triangles at its first call: releases the GIL, is kept on disk, divides like numpy.

    Parameters
    ----------
    function : callable
    """
    made = Kernel(function)
    _all.append(made)
    return made


def registered() -> list[Kernel]:
    """All kernels of the modules imported so far."""
    return list(_all)


def is_compiling() -> bool:
    """Whether this process compiles something just now, or waits for another to have done so."""
    return _under_way > 0 or len(_waiting) > 0


def wait_with(waiter: Callable[[Kernel, tuple], None] | None) -> None:
    """Ask `waiter` before anything is compiled in this process, which may wait until another one has done it.

    Parameters
    ----------
    waiter : callable or None
        Told the kernel, and the types of its arguments.
    """
    global _waiter
    _waiter = waiter
