"""Kernels: Numba's, but compiled, or loaded from the cache, at their first call and not when their file is imported.

A start needs a dozen of two hundred; each takes some milliseconds to load.
"""

from __future__ import annotations

import ctypes
import fcntl
import functools
import os
from collections.abc import Callable
from contextlib import suppress
from importlib import import_module
from typing import Any, TypeVar

import numba
from llvmlite.binding import parse_bitcode
from numba import extending
from numba.core import typeinfer
from numba.core.caching import FunctionCache
from numba.core.codegen import JITCodeLibrary, JITCPUCodegen
from numba.core.compiler_lock import global_compiler_lock
from numba.core.registry import CPUDispatcher
from numba.core.targetconfig import TargetConfig

F = TypeVar("F", bound=Callable[..., Any])
# A kernel that is compiled for another one would otherwise inherit these from it: its bits would depend on which is called first.
_OWN_FLAGS: dict[str, Any] = {"_nrt": True, "fastmath": False, "error_model": "python", "forceinline": False}
# Every kernel with a signature that was declared in this process.
KERNELS: list[Kernel] = []


@functools.cache
def _adapt_numba() -> None:
    """Leave out what no kernel needs and what would take long: BLAS, which would load all of SciPy where that is there, and the
    words for an assignment of a wrong shape, which would be compiled into each kernel that assigns to a part of an array."""

    def ensure_blas() -> None:
        raise ImportError("no kernel multiplies matrices")

    def misfit(_source: Any, _target: Any) -> None: ...

    @extending.overload(misfit)
    def _(_source: Any, _target: Any) -> Callable[[Any, Any], None]:
        def raised(_source: Any, _target: Any) -> None:
            raise ValueError("an array is assigned to a part of another one of a different shape")

        return raised

    def same(one: Any, other: Any) -> bool:
        # Numba's makes a dictionary of all options of both, and is asked each time that a function is called: it took a seventh of
        # the time of compiling.
        if type(one) is not type(other):
            return False
        ours, theirs, options = one._values, other._values, one.options
        return all(
            ours.get(name, options[name].default) == theirs.get(name, options[name].default)
            for name in ours.keys() | theirs.keys()
        )

    # Asked once, when `numba.np.arraymath` is loaded.
    import_module("numba.np.linalg").__dict__["ensure_blas"] = ensure_blas
    import_module("numba.np.arrayobj").__dict__["raise_with_shape_context"] = misfit
    config: Any = TargetConfig
    config.__eq__, config.__hash__ = same, lambda one: hash(type(one))


# How Numba's names begin for the body of a parallel loop, and for the two functions that it wraps around it.
_LOOPS = ("__numba_parfor_gufunc", "<numba.np.ufunc.wrappers._GufuncWrapper", "parallelgufuncwrapper")


class LateLibrary(JITCodeLibrary):
    """Code of a kernel.

    The body of a parallel loop is optimized with its kernel, not before: Numba would optimize it four times, and turn it into
    machine code as often. What only another kernel that is compiled would need of a stored kernel, its bitcode, is read when one
    does: that takes longer than all else of loading it.
    """

    _bitcode: bytes | None = None

    def finalize(self) -> None:
        late: Any = self
        if not late.name.startswith(_LOOPS):
            super().finalize()  # type: ignore[no-untyped-call]
            return
        for library in dict.fromkeys(late._linking_libraries):
            late._reload_init.update(library._reload_init)
            late._final_module.link_in(library._get_module_for_linking(), preserve=True)
        late._finalized = True

    @classmethod
    def _unserialize(cls, codegen: Any, state: Any) -> Any:
        name, kind, data = state
        if kind != "object":
            return super()._unserialize(codegen, state)  # type: ignore[no-untyped-call]
        library: Any = codegen.create_library(name)
        code, library._bitcode = data
        library.enable_object_caching()
        library._set_compiled_object(code)
        library._finalize_final_module()
        return library

    def get_pointer_to_function(self, name: str) -> Any:
        late: Any = self
        # Numba's list of what is defined comes of the bitcode. A kernel's own function always is.
        known = late._bitcode is None
        return super().get_pointer_to_function(name) if known else late._codegen._engine.get_function_address(name)  # type: ignore[no-untyped-call]

    def _get_module_for_linking(self) -> Any:
        late: Any = self
        if late._shared_module is None and late._bitcode is not None:
            late._shared_module, late._bitcode = parse_bitcode(late._bitcode), None
            late._codegen._engine._load_defined_symbols(late._shared_module)
        return super()._get_module_for_linking()  # type: ignore[no-untyped-call]


def _set_env(codegen: Any, name: str, env: Any) -> None:
    """As Numba's, for a function that may have no machine code of its own."""
    if address := codegen._engine.get_global_value_address(name):
        ctypes.c_void_p.from_address(address).value = id(env)


_codegen: Any = JITCPUCodegen
_codegen._library_class, _codegen.set_env = LateLibrary, _set_env


class LockedCache(FunctionCache):
    """A kernel's cache files. One process compiles a kernel at a time; others that need it wait, and then load it.

    A kernel compiles those that it calls, and no two call each other, so there is no deadlock.
    """

    _lock: int | None = None

    def load_overload(self, sig: Any, target_context: Any) -> Any:
        """The compiled kernel, or None: then no other process compiles it until it is saved or `unlock` is called."""
        load: Any = super().load_overload
        self._forget_unreadable()
        found = load(sig, target_context)
        if found is None and self._lock is None:
            # Where nothing can be written, each process compiles for itself.
            with suppress(OSError):
                self._impl.locator.ensure_cache_path()
                self._lock = os.open(f"{self._cache_file._index_path}.lock", os.O_CREAT | os.O_RDWR, 0o600)
                fcntl.flock(self._lock, fcntl.LOCK_EX)
                found = load(sig, target_context)
        return found

    def _forget_unreadable(self) -> None:
        """Empty an index that names types of an older version: the kernel is compiled again."""
        cache: Any = self
        try:
            cache._cache_file._load_index()
        except (AttributeError, ImportError):
            cache._cache_file.flush()

    def unlock(self) -> None:
        """Let others compile it."""
        if self._lock is not None:
            os.close(self._lock)
            self._lock = None

    def is_stored(self, signatures: tuple[Any, ...], codegen: Any) -> bool:
        """Whether code for all of some signatures is stored, of the kernel as it is now."""
        cache: Any = self
        self._forget_unreadable()
        stored = cache._cache_file._load_index()
        return all(cache._index_key(one, codegen) in stored for one in signatures)


class Kernel(CPUDispatcher):
    """A kernel that is there for its signatures alone, from its first call on."""

    _signatures: tuple[Any, ...]
    _loaded: bool
    _stored: bool
    _cache: Any
    py_func: Any

    def files(self) -> LockedCache | None:
        """Where it is stored, if it is. Made when it is asked for: a start needs a few dozen of nearly three hundred."""
        if self._stored and not isinstance(self._cache, LockedCache):
            self._cache = LockedCache(self.py_func)  # type: ignore[no-untyped-call]
        return self._cache if self._stored else None

    @property
    def full_name(self) -> str:
        """Its module and name."""
        return f"{self.py_func.__module__}.{self.py_func.__qualname__}"

    def is_stored(self) -> bool:
        """Whether it can be loaded without being compiled."""
        context: Any = self.targetctx
        files = self.files()
        return files is not None and files.is_stored(self._signatures, context.codegen())

    def load(self) -> None:
        """Compile it, or load it from the kernel cache."""
        if self._loaded:
            return
        # Numba's own lock: a thread that compiles a caller of this kernel holds it already.
        with global_compiler_lock:
            if not self._loaded:
                _adapt_numba()
                files = self.files()
                try:
                    with typeinfer.register_dispatcher(self):
                        for signature in self._signatures:
                            self.compile(signature)
                finally:
                    if files is not None:
                        files.unlock()
                self.disable_compile()
                self._loaded = True

    def _compile_for_args(self, *args: Any, **_: Any) -> Any:
        """Called by Numba for code with argument types that it has not compiled."""
        self.load()
        made: dict[Any, Any] = dict(self.overloads)
        context: Any = self.typingctx
        given = [self.typeof_pyval(arg) for arg in args]
        for known, one in made.items():
            if all(context.can_convert(a, b) is not None for a, b in zip(given, known, strict=True)):
                return one.entry_point
        raise TypeError(f"{self.py_func.__name__}: no signature for {given}")

    def get_call_template(self, args: Any, kws: Any) -> Any:
        """Asked by Numba when another kernel calls this one."""
        self.load()
        return super().get_call_template(args, kws)


def njit(signatures: Any = None, **options: Any) -> Callable[[F], F]:
    """As Numba's `njit`, of one signature, a list of them, or none: then it is Numba's."""
    stored = signatures is not None and options.pop("cache", False)

    def made(function: F) -> F:
        # No kernel is called from C: its wrapper for that is left out.
        own = _OWN_FLAGS if signatures is not None else {}
        kernel: Any = numba.njit(**own | options | {"no_cfunc_wrapper": True})(function)
        if signatures is not None:
            kernel.__class__, kernel._stored = Kernel, stored
            kernel._signatures = tuple(signatures) if isinstance(signatures, list) else (signatures,)
            kernel._loaded = False
            KERNELS.append(kernel)
        found: F = kernel
        return found

    return made


# What takes memory, or gives out an array as another.
_TAKES = {
    "append", "arange", "argsort", "array", "astype", "concatenate", "copy", "empty", "empty_like", "full", "linspace", "ones",
    "sort", "stack", "unique", "where", "zeros", "zeros_like",
}  # fmt: skip


def inline_kernel(signatures: Any, **options: Any) -> Callable[[F], F]:
    """Like `njit`, for a kernel that takes no memory and returns no array: it does not count references to its arrays.

    Numba counts with atomic operations, often each time that a kernel is called within a loop: they take longer than a kernel of
    a few lines. Raises TypeError for one that takes memory.
    """

    def made(function: F) -> F:
        code: Any = function.__code__
        if taken := _TAKES & {*code.co_names}:
            raise TypeError(f"{function.__name__} takes memory ({', '.join(sorted(taken))}): it is no leaf.")
        return njit(signatures, _nrt=False, **options)(function)

    return made
