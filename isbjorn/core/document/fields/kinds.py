"""The registry: one entry makes a force, a shape of a source, a body, a deformer or a step of the finish.

An entry is a model of the document with its engine. The model says everything that is shown of it (title, icon, group of the
menu, what it does) in its JSON Schema, under `isbjorn`; the engine is named by its place, and loaded when it is first needed.
More kinds come from packages that are named in `ISBJORN_EXTENSIONS` (module names, by commas) or that declare the entry point
`isbjorn.extensions`: they are imported before a document is read, and register theirs the same way.
"""

from __future__ import annotations

import functools
import importlib
import os
from collections.abc import Callable
from dataclasses import dataclass
from importlib.metadata import entry_points
from typing import Annotated, Any, TypeVar, Union

from pydantic import ConfigDict, Field

from isbjorn.core.document.fields.base import Part
from isbjorn.core.errors import IsbjornError

Model = TypeVar("Model", bound=type[Part])
EXTENSIONS = "ISBJORN_EXTENSIONS"
# Numbers of the kinds that come from elsewhere begin here; those of the engine's own are written in their kernels.
FIRST_FOREIGN = 1000


def shown(
    title: str, icon: str = "", about: str = "", menu: str = "", located: bool = True, framed: bool = True,
    sized: bool = True, needs: str = "", tool: str = "", lettered: bool = False,
) -> ConfigDict:  # fmt: skip
    """How the page shows a kind: its title, its icon as an SVG path on 24 × 24, its description, and its group in the menu.

    located: it acts from a place, which is shown. framed: its place and turn depend on a carrier's coordinates. sized: a shape has
    an extent; lettered: it consists of letters. needs: the field with the file without which a body shows nothing of its own.
    tool: what may set its numbers from the shot, such as `grain of the plate`.
    """
    shown_as: Any = {
        "title": title, "icon": icon, "about": about, "menu": menu, "located": located, "framed": framed, "sized": sized,
        "needs": needs, "tool": tool, "lettered": lettered,
    }  # fmt: skip
    return ConfigDict(title=title, json_schema_extra={"isbjorn": shown_as})


def _shown_of(model: type[Part]) -> dict[str, Any]:
    extra: Any = model.model_config.get("json_schema_extra") or {}
    found: dict[str, Any] = extra.get("isbjorn", {})
    return found


def is_framed(model: type[Part]) -> bool:
    """Whether the coordinates that the place and the turn of a kind refer to matter."""
    return bool(_shown_of(model).get("framed", True))


def is_lettered(model: type[Part]) -> bool:
    """Whether a shape consists of letters."""
    return bool(_shown_of(model).get("lettered", False))


def loaded(where: str) -> Any:
    """What a registry names by its place, `module` or `module:function`: a module, or a function or an object of one."""
    module, _, name = where.partition(":")
    found: Any = importlib.import_module(module)
    return functools.reduce(getattr, name.split("."), found) if name else found


@dataclass(frozen=True)
class Kind:
    """A registered kind. engine: `module` or `module:function`."""

    model: type[Part]
    engine: str
    number: int

    @property
    def names(self) -> tuple[str, ...]:
        """The kind's names in the document."""
        return tuple(self.model.model_fields["kind"].annotation.__args__)  # type: ignore[union-attr]

    @functools.cached_property
    def made(self) -> Any:
        """The engine: a module, or a function or an object of one."""
        return loaded(self.engine)


class Family:
    """The kinds of one sort."""

    def __init__(self, word: str) -> None:
        self.word = word
        self._kinds: dict[type[Part], Kind] = {}
        self._closed = False

    def register(self, engine: str) -> Callable[[Model], Model]:
        """Decorate a model: it is a kind from now on. Raises IsbjornError for a word that is taken, or when it is too late."""

        def put(model: Model) -> Model:
            taken = {name for kind in self._kinds.values() for name in kind.names}
            foreign = not engine.startswith("isbjorn.")
            kind = Kind(model, engine, len(self._kinds) + (FIRST_FOREIGN if foreign else 1))
            for name in kind.names:
                if name in taken:
                    raise IsbjornError(f"there is a {self.word} '{name}' already.", engine, "Give it another kind.")
            if self._closed:
                raise IsbjornError(
                    f"the {self.word} '{kind.names[0]}' is registered too late: documents have already been read.", engine,
                    f"Name its package in {EXTENSIONS}.",
                )  # fmt: skip
            self._kinds[model] = kind
            return model

        return put

    def __iter__(self) -> Any:
        return iter(self._kinds.values())

    def of(self, thing: Any) -> Kind:
        """The kind of a thing of the document."""
        return self._kinds[type(thing)]

    def named(self, name: str) -> Kind | None:
        """The kind with a name in the document."""
        return next((kind for kind in self if name in kind.names), None)

    def union(self) -> Any:
        """The type of a field that holds any of them. No more can be registered from now on."""
        self._closed = True
        models = tuple(self._kinds)
        return Annotated[Union[models], Field(discriminator="kind")]  # noqa: UP007


# Checks of the Lookout from extensions, by their places: each is called with a `Watch` of the shot and yields notes.
CHECKS: list[str] = []
FORCES, SHAPES, BODIES, STEPS = Family("force"), Family("shape"), Family("body"), Family("step of the finish")
DEFORMERS = Family("deformer")
FAMILIES = {"force": FORCES, "shape": SHAPES, "body": BODIES, "step": STEPS, "deformer": DEFORMERS}


@functools.cache
def load_extensions() -> tuple[str, ...]:
    """Import the packages that bring more kinds; their names. Raises IsbjornError for one that cannot be imported."""
    named = [name.strip() for name in os.environ.get(EXTENSIONS, "").split(",")]
    names = [*(name for name in named if name), *(e.value for e in entry_points(group="isbjorn.extensions"))]
    for name in names:
        try:
            importlib.import_module(name)
        except IsbjornError:
            raise
        except Exception as error:  # whatever a stranger's package does when it is imported
            raise IsbjornError(
                f"the extension '{name}' cannot be imported ({type(error).__name__}: {error}).",
                EXTENSIONS,
                "Is it installed, and made for this version? Leave it out to start without it.",
            ) from error
    return tuple(dict.fromkeys(names))
