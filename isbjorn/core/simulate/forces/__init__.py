"""Forces of the world, one file each, which the registry names as their engines.

An engine has `pack(force, setting)`, its rows of numbers (see `force_layout`), and where it applies: `feel`, a kernel that adds to
the forces on a particle (`accumulators`); `carry`, a kernel that moves positions directly; `lines(force, read, far)`, its outline.
The kernels `feel`, `feels`, `carry` and `carries` here call each kind by its number.
"""

from __future__ import annotations

import functools
import inspect
import linecache
from collections.abc import Callable
from typing import Any

from isbjorn.core.arrays import Doubles
from isbjorn.core.document.fields.kinds import FORCES, Kind
from isbjorn.core.document.parts.forces import Acting
from isbjorn.core.jit import njit
from isbjorn.core.runtime.kernels import reaches_also
from isbjorn.core.simulate.forces.force_layout import CODE, ForceSetting


def number_of(kind: Kind) -> int:
    """The number by which kernels know a kind: its engine's own, or one from the registry."""
    return int(getattr(kind.made, "CODE", kind.number))


def pack(force: Acting, setting: ForceSetting) -> Doubles:
    """Rows (n, `WIDTH`) of a force."""
    kind = FORCES.of(force)
    rows: Doubles = kind.made.pack(force, setting)
    rows[:, CODE] = number_of(kind)
    return rows


def _having(name: str) -> list[Kind]:
    return [kind for kind in FORCES if hasattr(kind.made, name)]


def _kernel(name: str, lines: list[str], **names: Any) -> Any:
    """A kernel from its text, compiled where it is used. Its text is part of the stamps of those that use it."""
    text = "\n".join(lines) + "\n"
    file = f"<forces {name}>"
    linecache.cache[file] = (len(text), None, text.splitlines(True), file)
    space: dict[str, Any] = dict(names)
    exec(compile(text, file, "exec"), space)
    return njit(forceinline=True)(space[name])


@functools.cache
def _asked(name: str, asking: str, given: str, nothing: str) -> tuple[Any, Any]:
    """Kernels: whether a kind has one of a name, and that one of each kind."""
    kinds = _having(name)
    has = " or ".join(f"code == {number_of(kind)}" for kind in kinds) or "False"
    ask = _kernel(asking, [f"def {asking}(code):", f"    return {has}"])
    lines = [f"def {name}(code, {given}):"]
    lines += [f"    if code == {number_of(k)}:\n        return _{number_of(k)}({given})" for k in kinds]
    lines.append(f"    return {nothing}")
    made = _kernel(name, lines, **{f"_{number_of(k)}": getattr(k.made, name) for k in kinds})
    text = "\n".join([has, *lines])
    for called in (name, asking):
        reaches_also(__file__, called, text, [(inspect.getfile(k.made), name) for k in kinds])
    return ask, made


feels, feel = _asked("feel", "feels", "rows, s, r, paths, key, birth, at, strength, share, mass, sums", "None")
carries, carry = _asked("carry", "carries", "rows, s, r, key, birth, x, y, z, strength, share, mass, h", "(x, y, z)")


def lines_of(force: Acting, read: Callable[[Any], float], far: float) -> list[Doubles]:
    """The outline of a force in its coordinates: polylines (n, 3)."""
    made = FORCES.of(force).made
    return list(made.lines(force, read, far)) if hasattr(made, "lines") else []
