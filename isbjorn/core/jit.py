"""Kernels: Numba's, but compiled, or loaded from where they are kept, when they are first called and not when their file is.

A start needs a dozen of two hundred; each takes some milliseconds to load.
"""

from __future__ import annotations

import functools
from collections.abc import Callable
from importlib import import_module
from typing import Any, TypeVar

import numba
from numba.core import typeinfer
from numba.core.compiler_lock import global_compiler_lock
from numba.core.registry import CPUDispatcher

F = TypeVar("F", bound=Callable[..., Any])
# Every kernel with a signature that was declared in this process.
KERNELS: list[Kernel] = []


@functools.cache
def _without_matrices() -> None:
    """No kernel multiplies matrices: what is loaded with the first one need not look for BLAS, which would load all of SciPy where
    that is there."""

    def ensure_blas() -> None:
        raise ImportError("no kernel needs it")

    # Asked once, when `numba.np.arraymath` is loaded.
    import_module("numba.np.linalg").__dict__["ensure_blas"] = ensure_blas


class Kernel(CPUDispatcher):
    """A kernel that is there for its signatures alone, from its first call on."""

    _signatures: tuple[Any, ...]
    _loaded: bool

    def load(self) -> None:
        """Compile it, or take it from where kernels are kept."""
        if self._loaded:
            return
        # Numba's own lock: one who compiles what calls this holds it already.
        with global_compiler_lock:
            if not self._loaded:
                _without_matrices()
                with typeinfer.register_dispatcher(self):
                    for signature in self._signatures:
                        self.compile(signature)
                self.disable_compile()
                self._loaded = True

    def _compile_for_args(self, *args: Any, **_: Any) -> Any:
        """Asked by Numba for code that takes some arguments, when it knows of none."""
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

    def made(function: F) -> F:
        kernel: Any = numba.njit(**options)(function)
        if signatures is not None:
            kernel.__class__ = Kernel
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


def leaf(signatures: Any, **options: Any) -> Callable[[F], F]:
    """As `njit`, of a kernel that takes no memory and returns no array: it does not count who holds the arrays that it is given.

    Numba counts with atomic operations, often each time that a kernel is called within a loop: they take longer than a kernel of
    a few lines. Raises TypeError for one that takes memory.
    """

    def made(function: F) -> F:
        code: Any = function.__code__
        if taken := _TAKES & {*code.co_names}:
            raise TypeError(f"{function.__name__} takes memory ({', '.join(sorted(taken))}): it is no leaf.")
        return njit(signatures, _nrt=False, **options)(function)

    return made


def load_all() -> None:
    """Load every kernel of what is imported; for processes from which others are forked, and at set-up."""
    for kernel in KERNELS:
        kernel.load()
