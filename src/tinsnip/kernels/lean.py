"""From a Python function to machine code in as little time as it takes.

numba's default way serves everything that Python may hold. Kernels are plain loops: without closures, generators,
objects and whole-array expressions most passes find nothing to do, and one run of LLVM over the whole is enough.
"""

import operator
from collections.abc import Callable
from types import CodeType
from typing import Any

import llvmlite.binding as llvm
from numba.core import (
    bytecode,
    compiler,
    compiler_machinery,
    ir,
    postproc,
    transforms,
    typed_passes,
    types,
    untyped_passes,
)
from numba.core.codegen import JITCodeLibrary
from numba.core.registry import cpu_target
from numba.core.targetconfig import TargetConfig

__all__ = ["LeanCompiler", "LeanLibrary"]


class LeanLibrary(JITCodeLibrary):
    """Machine code that is optimised once, when all of it is together."""

    optimise = 3
    """LLVM's level. With 2, welding and pairing half-edges took a tenth longer, and compiling hardly less."""

    shared = b""
    """What was kept for linking into others, parsed only when one is compiled that does."""

    def _get_module_for_linking(self) -> Any:
        if self._shared_module is None and self.shared:
            self._shared_module = llvm.parse_bitcode(self.shared)
        return super()._get_module_for_linking()

    def _optimize_functions(self, ll_module: Any) -> None:
        ll_module.data_layout = self._codegen._data_layout

    def _optimize_final_module(self) -> None:
        passes, builder = self._codegen._module_pass_manager(
            opt=self.optimise, loop_vectorize=True, slp_vectorize=False
        )
        passes.run(self._final_module, builder)


class _Passes(compiler_machinery.PassManager):
    _ENFORCING = False  # checks of numba's own passes, which are not under test here


class LeanCompiler(compiler.Compiler):
    """Only the passes that loops need; the symbol of a kernel is told by its `key`, so that it is the same anywhere."""

    def compile_extra(self, func: Callable) -> Any:
        identity = bytecode.FunctionIdentity.from_function(func)
        identity.unique_id = int(func.__kernel__.key, 16)
        identity.unique_name = f"{identity.func_qualname}${identity.unique_id}"
        self.state.func_id = identity
        self.state.library = LeanLibrary(self.state.targetctx.codegen(), identity.func_qualname)
        self.state.library.enable_object_caching()
        compiler.ExtractByteCode().run_pass(self.state)
        self.state.lifted, self.state.lifted_from = (), None
        return self._compile_bytecode()

    def define_pipelines(self) -> list[compiler_machinery.PassManager]:
        passes = _Passes("kernel")
        for step in (
            untyped_passes.TranslateByteCode,
            untyped_passes.FixupArgs,
            untyped_passes.IRProcessing,
            *self._for_closures(),
            untyped_passes.GenericRewrites,
            untyped_passes.RewriteDynamicRaises,
            untyped_passes.ReconstructSSA,
            typed_passes.NopythonTypeInference,
            typed_passes.PreLowerStripPhis,
            typed_passes.IRLegalization,
            typed_passes.NativeLowering,
            typed_passes.NoPythonBackend,
        ):
            passes.add_pass(step, step.__name__)
        passes.finalize()
        return [passes]

    def _for_closures(self) -> list[Any]:
        has_some = any(isinstance(one, CodeType) for one in self.state.func_id.code.co_consts)
        return [untyped_passes.InlineClosureLikes] if has_some else []


_OPERATORS = {getattr(operator, name) for name in operator.__all__} | {max, min, abs}
_SCALARS = (types.Number, types.Boolean)


def _remember_operators(context: Any) -> None:
    """Let the type of an operator over numbers be worked out once: numba tries dozens of ways each time."""
    resolve, known = context._resolve_user_function_type, {}

    def remembered(func: Any, args: Any, kws: Any, literals: Any = None) -> Any:
        is_plain = not kws and not literals and getattr(func, "typing_key", func) in _OPERATORS
        if not is_plain or not all(isinstance(types.unliteral(one), _SCALARS) for one in args):
            return resolve(func, args, kws, literals)
        key = func, tuple(args)
        if key not in known:
            known[key] = resolve(func, args, kws, literals)
        return known[key]

    context._resolve_user_function_type = remembered


def _list_vars(self: ir.Inst, value: Any) -> list[ir.Var]:
    """The variables within a value, in the order in which numba's own way lists them, and in a third of its time."""
    found: list[ir.Var] = []
    rest = [value]
    while rest:
        one = rest.pop()
        kind = type(one)
        if kind is ir.Var:
            found.append(one)
        elif kind is tuple or kind is list:
            rest.extend(reversed(one))
        elif kind is dict:
            rest.extend(reversed(one.values()))
        elif isinstance(one, ir.Inst):
            found.extend(one.list_vars())
    return found


_are_equal = TargetConfig.__eq__


def _are_same(self: TargetConfig, other: object) -> bool:
    """Whether two sets of options say the same; most often they are one, and dozens of options need no look."""
    return self is other or _are_equal(self, other)


def _number_of_options(self: TargetConfig) -> int:
    return len(self.options)  # numba's own takes their names, which are the same for all of one class, one by one


_look_at_lives = postproc.PostProcessor.run


def _look_at_lives_last(self: postproc.PostProcessor, emit_dels: bool = False, extend_lifetimes: bool = False) -> None:
    """How long each variable lives, told after each pass, is asked for once: by the last, which says where they end."""
    if emit_dels or not hasattr(self.func_ir.func_id.func, "__kernel__"):
        _look_at_lives(self, emit_dels, extend_lifetimes)
    else:
        self.func_ir.blocks = transforms.canonicalize_cfg(self.func_ir.blocks)


_remember_operators(cpu_target.typing_context)
postproc.PostProcessor.run = _look_at_lives_last
TargetConfig.__eq__, TargetConfig.__hash__ = _are_same, _number_of_options
ir.Inst._rec_list_vars = _list_vars
# numba announces every call of LLVM to listeners that nobody is here
llvm.ffi.lib._lock._cblist.clear()
