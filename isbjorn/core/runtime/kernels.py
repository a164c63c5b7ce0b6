"""The kernel cache on the disk, and what each compiled kernel depends on.

Numba finds a cached kernel by the text of its file: it does not notice a change of a function of another file that was compiled
into it, and it compiles all of a file again when anything in it has changed. So each kernel has a digest of its own text, and of
the text of every function and constant that it reaches, in any file of the engine.
"""

from __future__ import annotations

import ast
import functools
import hashlib
import os
import re
import sys
import threading
from contextlib import suppress
from importlib.metadata import version
from pathlib import Path

HERE = Path(__file__).parent.parent
_PACKAGE = "isbjorn.core"
_FOLDER = "kernels"
# Prefix for the text of functions that come from elsewhere.
FOREIGN = "elsewhere/"
_NAME = re.compile(r"[A-Za-z_]\w*")
# What the first picture of the demonstration calls, with its guides. A kernel that is missing here only comes later.
FIRST = (
    "random.stream_key", "emit.births._slots", "random._draws_around", "random._draws01", "simulate.steps._settle",
    "simulate.steps._gather", "simulate.steps._advance", "simulate.steps._between", "simulate.steps._blend",
    "simulate.integrators.batched._drift", "appearance.looks._dress", "appearance.looks._size", "appearance.colours._vary_each",
    "render.scene.exposure._among", "render.scene.exposure._found_again", "render.scene.trajectories._merge",
    "render.scene.trajectories._seen", "render.scene.camera._placed", "render.scene.camera._tally",
    "render.raster.tiles._count", "render.raster.tiles._fill", "render.raster.discs._records", "render.raster.discs._draw",
    "render.scene.bodies._distances", "render.raster.sprites._draw", "render.raster.blurred_discs._pack",
    "render.raster.blurred_discs._draw", "render.composite.effects._bright", "render.composite.effects._lit_by_half",
    "render.composite.effects._lit", "imaging.blur._along", "imaging.blur._across", "imaging.display_encoding._ends",
    "render.raster.pixel_pass._work_all", "render.raster.pixel_pass._cover", "render.raster.pixel_pass._lay",
    "imaging.shrink._shrink",
)  # fmt: skip
# Names that are made at the start, from the registry: their text, and what that reaches.
_ALSO: dict[tuple[Path, str], tuple[str, list[tuple[Path, str]]]] = {}
_PARSING = threading.Lock()


def reaches_also(file: str, name: str, text: str, others: list[tuple[str, str]]) -> None:
    """Register the meaning of a name of a file, where the text does not show it: a text, and functions as (file, name)."""
    _ALSO[Path(file), name] = (text, [(Path(at), one) for at, one in others])


def _file_of(module: str) -> Path:
    inside = HERE.joinpath(*module.split(".")[2:])
    return inside / "__init__.py" if inside.is_dir() else inside.with_suffix(".py")


@functools.cache
def _defined(path: Path) -> dict[str, ast.stmt]:
    """The statement that defines each name of a module."""
    found: dict[str, ast.stmt] = {}
    # Python 3.11 fails with a SystemError if two threads parse at the same time.
    with _PARSING:
        module = ast.parse(path.read_bytes())
    for node in module.body:
        if isinstance(node, ast.FunctionDef | ast.ClassDef):
            found[node.name] = node
        elif isinstance(node, ast.ImportFrom | ast.Import):
            found |= {(alias.asname or alias.name): node for alias in node.names}
        else:
            # Whatever else makes a name makes it for good: constants, also in pairs and under conditions.
            made = [n.id for n in ast.walk(node) if isinstance(n, ast.Name) and isinstance(n.ctx, ast.Store)]
            found |= dict.fromkeys(made, node)
    return found


@functools.cache
def _definition(path: Path, name: str) -> tuple[str, frozenset[str]]:
    """The text of what makes a name, and the names in it."""
    node = _defined(path)[name]
    first = min([node.lineno, *(d.lineno for d in getattr(node, "decorator_list", []))])
    text = "\n".join(_lines(path)[first - 1 : node.end_lineno])
    return text, frozenset(_NAME.findall(text)) & _defined(path).keys()


@functools.cache
def _lines(path: Path) -> list[str]:
    return path.read_text().split("\n")


def _imported(path: Path, name: str) -> tuple[Path, str] | None:
    """Where a name comes from, if it is taken from the engine: a file, and the name there ("" for a module as a whole)."""
    node = _defined(path).get(name)
    if not isinstance(node, ast.ImportFrom) or not (node.module or "").startswith(_PACKAGE):
        return None
    given = next(a.name for a in node.names if (a.asname or a.name) == name)
    module = _file_of(f"{node.module}.{given}")
    return (module, "") if module.exists() else (_file_of(str(node.module)), given)


def reached(path: Path, name: str) -> dict[tuple[str, str], str]:
    """The text of everything of the engine that a function depends on, itself included, by file and name."""
    found: dict[tuple[str, str], str] = {}
    ahead, seen = [(path, name)], set[tuple[Path, str]]()
    while ahead:
        here, wanted = ahead.pop()
        if (here, wanted) in seen or wanted not in _defined(here):
            continue
        seen.add((here, wanted))
        home = _imported(here, wanted)
        if home is not None:
            ahead.append(home)
            continue
        inside = str(here.relative_to(HERE)) if here.is_relative_to(HERE) else f"{FOREIGN}{here.name}"
        if (here, wanted) in _ALSO:
            found[inside, wanted], others = _ALSO[here, wanted]
            ahead += others
            continue
        text, names = _definition(here, wanted)
        found[inside, wanted] = text
        for other in names:
            home = _imported(here, other)
            if home is not None and home[1] == "":
                # A module that is used by its name: what is taken of it.
                ahead += [(home[0], part) for part in re.findall(rf"\b{other}\.(\w+)", text)]
            else:
                ahead.append((here, other))
    return found


@functools.cache
def fingerprint() -> str:
    """A digest of the engine's files and of what compiles them: while it is the same, no kernel has changed."""
    files = [(str(p.relative_to(HERE)), p.stat().st_mtime_ns, p.stat().st_size) for p in sorted(HERE.rglob("*.py"))]
    versions = f"{version('numba')} {version('llvmlite')} {os.environ.get('ISBJORN_EXTENSIONS', '')} {files}"
    return hashlib.sha256(versions.encode()).hexdigest()


def _marker() -> Path:
    return Path(os.environ.get("NUMBA_CACHE_DIR", HERE)) / f"complete-{fingerprint()[:16]}"


def mark_complete() -> None:
    """Note that all kernels are stored as they are now."""
    with suppress(OSError):
        _marker().touch()


def is_complete() -> bool:
    """Whether all kernels are stored as they are now, so that nothing need be compiled."""
    return _marker().is_file()


def lend(there: Path, folder: Path) -> None:
    """Link cached kernels from a read-only folder into a writable one, so that a user who did not set up the engine need not
    compile them.

    Numba replaces a link with a new file, and never writes through it.
    """
    for file in there.rglob("*"):
        link = folder / file.relative_to(there)
        with suppress(OSError):
            if file.is_file() and not os.path.lexists(link):
                link.parent.mkdir(parents=True, exist_ok=True)
                link.symlink_to(file)


def keep_kernels() -> None:
    """Let Numba cache kernels beside the engine, or in the user's cache where that cannot be written.

    A folder that the environment names (NUMBA_CACHE_DIR) is used as it is.
    """
    os.environ["NUMBA_CACHE_LOCATOR_CLASSES"] = "isbjorn.core.runtime.locator.KernelLocator"
    for home in (HERE / "__pycache__", Path.home() / ".cache" / "isbjorn"):
        if os.environ.get("NUMBA_CACHE_DIR"):
            break
        folder = home / _FOLDER
        try:
            folder.mkdir(parents=True, exist_ok=True)
        except OSError:
            continue
        if os.access(folder, os.W_OK):
            os.environ["NUMBA_CACHE_DIR"] = str(folder)
            if home != HERE / "__pycache__":
                lend(HERE / "__pycache__" / _FOLDER, folder)
    if "numba" in sys.modules:
        sys.modules["numba"].config.reload_config()
