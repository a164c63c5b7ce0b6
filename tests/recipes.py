"""Follow a recipe of the handbook step by step, by the labels of the page, and draw what comes of it.

`.venv/bin/python -m tests.recipes` follows every recipe in `docs/handbook/recipes` and draws its picture again. The steps are read
as a person reads them; see `_DIRECTIVE` for the forms that they have. Raises LookupError for a label that the page does not have.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from pydantic import BaseModel

from isbjorn.core import Shot
from isbjorn.core.deliver import deliver
from isbjorn.core.document.editing import scene_edits
from isbjorn.core.document.files import parse_shot
from isbjorn.demo.beacon import first_shot

HANDBOOK = Path(__file__).parents[1] / "docs" / "handbook"
SCHEMA: dict[str, Any] = Shot.model_json_schema()["$defs"] | {"Shot": Shot.model_json_schema()}
WIDTH = 480
_PAGE = Path(__file__).parents[1] / "web" / "src" / "ui" / "words.ts"
_LABELS = dict(re.findall(r"^  '?([^':\n]+?)'?: '([^']+)',$", _PAGE.read_text(encoding="utf-8"), re.M))
# Parts whose fields the page shows among those of their thing.
_SHOWN_WITH = ("model", "look")
_DIRECTIVE = re.compile(
    r"clear \*\*(?P<force>[^*]+)\*\* for \*\*(?P<emitter>[^*]+)\*\*"
    r"|(?P<verb>add|remove|select|switch on|switch off|under|rename it to|Create a shot of) (?:the |an? )?"
    r"(?:\*\*(?P<name>[^*]+)\*\*|`(?P<given>[^`]+)`)"
    r"|\*\*(?P<label>[^*]+)\*\*(?: (?P<part>variation|lane|keys|flutter|points))? to `(?P<value>[^`]+)`",
    re.I,
)


def recipes() -> list[Path]:
    """The files of all recipes, in order."""
    return sorted((HANDBOOK / "recipes").glob("*.md"))


def steps(path: Path) -> list[str]:
    """The numbered steps of a recipe, each as one line."""
    text = path.read_text(encoding="utf-8")
    body = text.split("## Steps", 1)[1].split("\n## ", 1)[0]
    return [" ".join(step.split()) for step in re.split(r"^\d+\. ", body, flags=re.M)[1:]]


def readable(choice: str) -> str:
    """A value of a choice as the page shows it."""
    label = _LABELS.get(choice, choice.replace("_", " "))
    return label[0].upper() + label[1:]


def _models(field: dict[str, Any]) -> list[str]:
    """Names of the models that a field may hold."""
    found = [m.split("/")[-1] for m in field.get("discriminator", {}).get("mapping", {}).values()]
    for part in [field, field.get("items", {}), *field.get("anyOf", []), *field.get("oneOf", [])]:
        if "$ref" in part:
            found.append(part["$ref"].split("/")[-1])
        if part is not field:
            found += [m.split("/")[-1] for m in part.get("discriminator", {}).get("mapping", {}).values()]
    return list(dict.fromkeys(found))


class Follower:
    """A shot as it becomes, step by step. `part` is the thing or the part of it that labels belong to."""

    def __init__(self) -> None:
        self.shot: dict[str, Any] = first_shot("Recipe").model_dump(mode="json")
        self.thing = self.part = self.shot["emitters"][0]
        self.model = self.thing_model = "Emitter"

    def _take(self, shot: Shot, found: str | None = None) -> None:
        self.shot = shot.model_dump(mode="json")
        if found:
            self._select(found)

    def _things(self) -> Iterator[dict[str, Any]]:
        for kind in ("emitters", "forces", "zones", "markers", "lights", "mattes", "groups"):
            yield from self.shot[kind]

    def _id(self, name: str) -> str:
        found = next((str(thing["id"]) for thing in self._things() if thing["name"] == name), None)
        if found is None:
            raise LookupError(f"nothing in the cast is named {name}")
        return found

    def _select(self, name: str) -> None:
        if name == "Shot":
            self.thing, self.thing_model = self.shot, "Shot"
        else:
            self.thing = next((t for t in self._things() if t["name"] == name), {})
            if not self.thing:
                raise LookupError(f"nothing in the cast is named {name}")
            listed = next(
                kind for kind in self.shot if isinstance(self.shot[kind], list) and self.thing in self.shot[kind]
            )
            models = _models(SCHEMA["Shot"]["properties"][listed])
            self.thing_model = next(m for m in models if len(models) == 1 or self._is(m, self.thing["kind"]))
        self.part, self.model = self.thing, self.thing_model

    @staticmethod
    def _is(model: str, kind: str) -> bool:
        known = SCHEMA[model]["properties"]["kind"]
        return kind == known.get("const") or kind in known.get("enum", [])

    def _field(self, label: str) -> str:
        """The name of a field that is shown, of the part or of one that is shown with it (`_SHOWN_WITH`); goes on with that."""
        for inner in ("", *_SHOWN_WITH):
            owner = self.part.get(inner) if inner else self.part
            if not isinstance(owner, dict):
                continue
            model = _models(SCHEMA[self.model]["properties"][inner])[0] if inner else self.model
            for name, field in SCHEMA[model]["properties"].items():
                shown = all(owner.get(other) in wanted for other, wanted in field.get("shown_if", {}).items())
                if shown and field.get("title", name.capitalize()) == label:
                    if inner:
                        self._enter(inner)
                    return name
        raise LookupError(f"{self.model} has no field with the label {label}")

    def _kind(self, models: list[str], label: str) -> tuple[str, str]:
        """The model and the kind behind the name of a kind."""
        for model in models:
            known = SCHEMA[model]["properties"].get("kind", {})
            kinds = [known["const"]] if "const" in known else known.get("enum", [])
            titled = SCHEMA[model].get("isbjorn", {}).get("title") if len(kinds) == 1 else None
            for kind in kinds:
                if label == (titled or readable(kind)):
                    return model, kind
        raise LookupError(f"no kind is labelled {label}")

    def _enter(self, name: str, value: Any = None) -> None:
        """Go on with a part of the part; with a value, once it has that."""
        field = SCHEMA[self.model]["properties"][name]
        if value is not None:
            self.part[name] = value
        self.part = self.part[name]
        models = _models(field)
        self.model = next(m for m in models if len(models) == 1 or self._is(m, self.part["kind"]))

    def follow(self, step: str) -> None:
        """Do what a step says."""
        self.part, self.model = self.thing, self.thing_model
        for match in _DIRECTIVE.finditer(step):
            if match["force"]:
                tie = {"force": self._id(match["force"]), "emitter": self._id(match["emitter"])}
                self.shot["links"].remove(tie)
            elif match["label"]:
                self._set(match["label"], match["part"], match["value"])
            else:
                self._do(match["verb"].lower(), match["name"] or match["given"])

    def _do(self, verb: str, name: str) -> None:
        match verb:
            case "create a shot of":
                numbers = [int(n) for n in re.findall(r"\d+", name)]
                width, height, rate, frames = numbers
                self.shot |= {"width": width, "height": height, "rate": str(rate), "last_frame": frames - 1}
            case "add":
                self._add(name)
            case "remove":
                thing = next(t for t in self._things() if t["name"] == name)
                self._take(scene_edits.taken_out(parse_shot(self.shot), thing["id"]))
            case "select":
                self._select(name)
            case "rename it to":
                self.thing["name"] = name
            case "under":
                found = self._field(name)
                if isinstance(self.part[found], dict):
                    self._enter(found)
            case "switch on" | "switch off":
                self._switch(self._field(name), verb == "switch on")

    def _switch(self, name: str, on: bool) -> None:
        if isinstance(self.part[name], bool):
            self.part[name] = on
        elif on:
            self._enter(name, parse_part(_models(SCHEMA[self.model]["properties"][name])[0]))

    def _add(self, label: str) -> None:
        for name in ("finish", "deformers", "bursts"):
            field = SCHEMA[self.model]["properties"].get(name)
            if field is None:
                continue
            if name == "bursts" and label == "Burst":
                model, kind = "Burst", None
            else:
                try:
                    model, kind = self._kind(_models(field), label)
                except (LookupError, KeyError):
                    continue
            self.part[name] = [*self.part[name], parse_part(model, kind)]
            self.part, self.model = self.part[name][-1], model
            return
        if label in ("Emitter", "Zone", "Marker", "Light", "Matte", "Group"):
            kind = label.lower()
        else:
            kind = self._kind(_models(SCHEMA["Shot"]["properties"]["forces"]), label)[1]
        before = {t["id"] for t in self._things()}
        self._take(scene_edits.added(parse_shot(self.shot), kind, lambda: first_shot("x").emitters[0]))
        made = [t for t in self._things() if t["id"] not in before]
        self._select(next(t["name"] for t in made if kind in ("zone", "marker") or t not in self.shot["zones"]))

    def _set(self, label: str, part: str | None, value: str) -> None:
        if part == "points":
            self._points(value)
            return
        try:
            name = self._field(label)
        except LookupError:
            self.part, self.model = self.thing, self.thing_model
            name = self._field(label)
        field, current = SCHEMA[self.model]["properties"][name], self.part[name]
        if part == "lane" and label == "Colour":
            stops = [stop.split(":") for stop in value.split(",")]
            current["colours"] = [{"at": float(at) / 100, "colour": colour.strip()} for at, colour in stops]
        elif part == "lane":
            current["over_life"] = {"points": [_point(one, 0.01) for one in value.split(",")]}
        elif part == "keys":
            current["keys"] = [_point(one.replace(" s:", ":"), 1) for one in value.split(",")]
        elif part == "variation":
            current["spread"] = float(value)
        elif part == "flutter":
            times, amount = value.split("×")
            current["flutter"] = {"times_per_s": float(times), "amount": float(amount)}
        elif isinstance(current, dict) and "spread_shape" in current:
            current["value"] = float(value)
        elif field.get("enum"):
            named = {readable(choice): choice for choice in field["enum"]}
            self.part[name] = named[value]
        elif _models(field) and isinstance(current, dict):
            model, kind = self._kind(_models(field), value)
            self._enter(name, parse_part(model, kind))
        elif isinstance(current, (int, float)) and not isinstance(current, bool):
            self.part[name] = type(current)(float(value))
        else:
            # Things of the cast are named by their ids.
            found = next((thing["id"] for thing in self._things() if thing["name"] == value), value)
            self.part[name] = [found] if isinstance(current, list) else found

    def _points(self, value: str) -> None:
        pairs = [[float(n) for n in pair.split()] for pair in value.split(",")]
        points = [{"x": x, "y": y} for x, y in pairs]
        if "points" in SCHEMA[self.model]["properties"]:
            self.part["points"] = points
        else:
            self.part["path"] = parse_part("MotionPath", points=points)


def _point(text: str, scale: float) -> dict[str, Any]:
    """A point of a lane (`20: 0.5 smooth`), or a key."""
    at, rest = text.split(":")
    value, *joint = rest.split()
    place = {"at": float(at) * scale} if scale != 1 else {"at_s": float(at)}
    return {**place, "value": float(value) * (0.01 if scale != 1 else 1), "joint": joint[0] if joint else "straight"}


def parse_part(model: str, kind: str | None = None, **fields: Any) -> dict[str, Any]:
    """A new part as the page makes it: with the values that it starts with."""
    waiting: list[type[BaseModel]] = [BaseModel]
    for one in waiting:
        if one.__name__ == model and one.__module__.startswith("isbjorn.core.document"):
            return one.model_validate(fields | ({"kind": kind} if kind else {})).model_dump(mode="json")
        waiting += one.__subclasses__()
    raise LookupError(model)


def followed(path: Path) -> tuple[Shot, int]:
    """The shot that a recipe makes, and the frame that its picture shows."""
    follower = Follower()
    for step in steps(path):
        try:
            follower.follow(step)
        except (LookupError, KeyError, ValueError) as error:
            raise LookupError(f"{path.name}: “{step}”: {error}") from error
    text = path.read_text(encoding="utf-8")
    frame = int(re.search(r"!\[[^\]]*frame (\d+)", text)[1])  # type: ignore[index]
    return parse_shot(follower.shot), frame


def draw(path: Path, folder: Path) -> Path:
    """Deliver the frame that a recipe shows as a PNG of `WIDTH` px across into a folder; its path."""
    shot, frame = followed(path)
    order = {"format": "png8", "first": frame, "last": frame, "scale": WIDTH / shot.width, "existing": "replace"}
    return Path(deliver(shot, folder, path.stem, **order)[0])


if __name__ == "__main__":
    for recipe in recipes():
        made = draw(recipe, HANDBOOK / "pictures")
        made.replace(HANDBOOK / "pictures" / f"{recipe.stem}.png")
        print(recipe.stem)
