"""The command line."""

from __future__ import annotations

import functools
import json
import re
import sys
import time
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, NoReturn

import typer

from isbjorn import __version__
from isbjorn.core.errors import IsbjornError, missing_package
from isbjorn.core.runtime import loading

if TYPE_CHECKING:
    from rich.console import Console
    from rich.progress import Progress

app = typer.Typer(
    help="Particle emitters for video, titles and live visuals, rendered over footage at set frame rates.",
    no_args_is_help=True,
    add_completion=False,
    rich_markup_mode=None,
)


class _Say:
    """The console on stderr; loaded with the first line that is printed, so that a quiet start does not pay for it."""

    @functools.cached_property
    def console(self) -> Console:
        from rich.console import Console

        return Console(stderr=True, highlight=False)

    def print(self, text: str, **how: Any) -> None:
        self.console.print(text, **how)


say = _Say()

Port = Annotated[int, typer.Option(min=1, max=65535, envvar="ISBJORN_PORT", help="Port on this machine.")]
Data = Annotated[Path, typer.Option(envvar="ISBJORN_DATA", help="Folder for projects, media and deliveries.")]
Restore = Annotated[
    bool,
    typer.Option(
        "--restore", help="Restore the newest undamaged backup of the store first; the current store is renamed."
    ),
]
ShotName = Annotated[
    str, typer.Argument(metavar="SHOT", help="An exported shot file, or the id of a shot in the store.")
]
Scheduler = Annotated[
    str,
    typer.Option(
        envvar="ISBJORN_SCHEDULER",
        help="Address of a farm's scheduler, for example tcp://10.0.0.5:8786; empty: this machine.",
    ),
]
Key = Annotated[str, typer.Option(envvar="ISBJORN_FARM_KEY", help="Key file that all machines of the farm share.")]
_HOME = Path.home() / ".isbjorn"
_FORMATS = "For example png8, exr-half, mov or h265; a wrong name lists all."


def _bar() -> Progress:
    from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeRemainingColumn

    return Progress(
        TextColumn("{task.description}"),
        BarColumn(),
        MofNCompleteColumn(),
        TimeRemainingColumn(),
        console=say.console,
    )


@app.command()
def demo(
    port: Port = 8321, data: Data = _HOME, restore: Restore = False, scheduler: Scheduler = "", key: Key = ""
) -> None:
    """Start with the demonstration project Skarvøy Lights."""
    loading.begin()
    from isbjorn.studio.server import serve_studio

    if restore:
        _restore(data)
    serve_studio(data, port, scheduler, key, demo=True)


@app.command()
def serve(
    port: Port = 8321, data: Data = _HOME, restore: Restore = False, scheduler: Scheduler = "", key: Key = ""
) -> None:
    """Start the studio and answer on the loopback address."""
    loading.begin()
    from isbjorn.studio.server import serve_studio

    if restore:
        _restore(data)
    serve_studio(data, port, scheduler, key)


@app.command()
def render(
    shot: ShotName,
    out: Annotated[
        Path,
        typer.Option(
            help=(
                "Folder and name: frames go to PATH.0042.png, a movie to PATH.mp4. The name may contain {shot}, "
                "{project}, {version} and {frame}."
            )
        ),
    ],
    frames: Annotated[str, typer.Option(help="Range A-B or a single frame; empty: the whole shot.")] = "",
    purpose: Annotated[
        str, typer.Option(help="Start of a purpose's name, or a purpose file. Other options override it.")
    ] = "",
    format: Annotated[str | None, typer.Option(help=_FORMATS)] = None,
    scale: Annotated[float | None, typer.Option(help="Scale of the picture; 1 is the shot's size.")] = None,
    no_plate: Annotated[
        bool, typer.Option("--no-plate", help="Particles only, with alpha if the format supports it.")
    ] = False,
    every: Annotated[int | None, typer.Option(help="Deliver only every Nth frame.")] = None,
    handles: Annotated[str, typer.Option(help="Handles as A,B: additional frames before and after.")] = "",
    padding: Annotated[int | None, typer.Option(help="Number of digits in frame numbers.")] = None,
    existing: Annotated[
        str | None, typer.Option(help="What to do with existing files: refuse, version, replace or keep (resume).")
    ] = None,
    passes: Annotated[
        str | None, typer.Option(help="EXR layers: emitters,groups,alpha,depth,motion,ids,objects,plate.")
    ] = None,
    compression: Annotated[str | None, typer.Option(help="EXR compression: zip, zips, piz, dwaa.")] = None,
    colour: Annotated[str, typer.Option(help="Colour space of the files, for example ACEScg.")] = "",
    view: Annotated[str, typer.Option(help="DISPLAY/VIEW instead of a colour space.")] = "",
    config: Annotated[str, typer.Option(help="Path of a config.ocio; empty: the built-in configuration.")] = "",
    rate: Annotated[
        str | None, typer.Option(help="Frames per second, for example 50 or 30000/1001; empty: the shot's.")
    ] = None,
    speed: Annotated[float | None, typer.Option(help="Speed in % of the shot's.")] = None,
    between: Annotated[
        str | None, typer.Option(help="What shows between two plate frames: held, nearest, blended.")
    ] = None,
    fields: Annotated[str | None, typer.Option(help="Interlaced: 'upper first' or 'lower first'.")] = None,
    burn: Annotated[str | None, typer.Option(help="Text burned in: timecode,frame,name,figures.")] = None,
    slate: Annotated[
        bool, typer.Option("--slate", help="Adds a slate: one frame before the first that describes the delivery.")
    ] = False,
    no_sound: Annotated[bool, typer.Option("--no-sound", help="Deliver without sound.")] = False,
    processes: Annotated[
        int | None, typer.Option(min=1, max=64, help="Number of render processes; default: one per core.")
    ] = None,
    dry_run: Annotated[
        bool, typer.Option("--dry-run", help="Only show which files would be written, their size and the time.")
    ] = False,
    scheduler: Scheduler = "",
    key: Key = "",
    data: Data = _HOME,
) -> None:
    """Deliver frames or a movie."""
    from pydantic import ValidationError

    from isbjorn.core.deliver import Delivery, Order, named_order
    from isbjorn.core.document.files import first_problem

    document, plates, project = _shot(shot, data)
    ready = _purpose(purpose)
    first, last = _range(frames, document.first_frame, document.last_frame)
    if ready is not None and ready.frames == "one" and not frames:
        last = first
    before, after = _pair(handles)
    words = {"passes": passes, "burn": burn}
    given: dict[str, Any] = {
        "format": format, "scale": scale, "every": every, "padding": padding, "existing": existing, "compression": compression,
        "fields": fields, "before": before, "after": after, "over_plate": False if no_plate else None,
        "slate": True if slate else None, "sound": False if no_sound else None,
        **{name: [w.strip() for w in text.split(",") if w.strip()] for name, text in words.items() if text is not None},
    }  # fmt: skip
    if colour or view or config:
        display, _, seen = view.partition("/")
        given["colour"] = {"space": colour, "display": display, "view": seen, "config": config}
    if rate is not None or speed is not None or between is not None:
        given["retime"] = {"rate": rate, "speed": 100 if speed is None else speed, "plate": between or "held"}
    fixed = {"first": first, "last": last, "folder": str(out.absolute().parent), "name": out.name}
    kept = {} if ready is None else {**ready.order, "purpose": ready.name}
    if "{version}" not in out.name and kept.get("existing") == "version":
        kept["existing"] = "refuse"
    try:
        order = Order.model_validate({**kept, **{k: v for k, v in given.items() if v is not None}, **fixed})
    except ValidationError as error:
        field, message = first_problem(error)
        raise IsbjornError(f"{message}.", f"--{field.replace('_', '-')}") from None
    if dry_run:
        _dry_run(document, order, plates, project)
        return
    order = named_order(document, order, project)
    farm = _farm(scheduler, key)
    try:
        with _bar() as bar:
            delivery = Delivery(
                document,
                order,
                plates,
                processes=processes,
                on_progress=lambda made: bar.update(task, completed=made),
                farm=farm,
            )
            task = bar.add_task(document.name, total=len(delivery.job.plan))
            made = delivery.run()
    finally:
        if farm is not None:
            farm.close()
    say.print(
        f"{len(delivery.job.plan)} frames in {made[0].parent}: {made[0].name}"
        + (f" … {made[-1].name}" if len(made) > 1 else "")
        + ", checked"
    )


def _farm(scheduler: str, key: str):  # type: ignore[no-untyped-def]
    from isbjorn.core.deliver.farm.client import Farm

    return Farm(scheduler, key) if scheduler else None


@app.command()
def scheduler(
    address: Annotated[str, typer.Option(help="Address that studios and workers connect to.")] = "tcp://127.0.0.1:8786",
    key: Key = "",
) -> None:
    """Bring studios and workers of a farm together."""
    import asyncio

    from isbjorn.core.deliver.farm.scheduler import serve_scheduler

    asyncio.run(serve_scheduler(address, key))


@app.command()
def worker(
    scheduler: Scheduler = "tcp://127.0.0.1:8786",
    name: Annotated[str, typer.Option(help="Name shown in the queue; empty: the machine's name.")] = "",
    processes: Annotated[int, typer.Option(min=0, max=256, help="Number of render processes; 0: one per core.")] = 0,
    key: Key = "",
) -> None:
    """Work for a farm: draw frames for the studios of its scheduler."""
    import asyncio
    import os
    import socket

    from isbjorn.core.deliver.farm.worker import serve_worker

    asyncio.run(serve_worker(scheduler, name or socket.gethostname(), processes or os.cpu_count() or 1, key))


@app.command()
def stand_in(
    what: Annotated[str, typer.Argument(help="One of: faders, notes, walker, timecode.")],
    port: Annotated[int, typer.Option(min=1, max=65_535, help="Address at which the studio listens for OSC.")] = 8331,
    seconds: Annotated[float, typer.Option(min=0, max=86_400, help="Duration in seconds.")] = 3600,
) -> None:
    """Send what a controller or a tracker would, over the loopback."""
    from isbjorn import standins

    known = {
        "faders": standins.faders, "walker": standins.walker, "notes": standins.notes, "timecode": standins.timecode,
    }  # fmt: skip
    if what not in known:
        raise IsbjornError(f"'{what[:40]}' is not a stand-in.", "stand-in", f"Use one of: {', '.join(known)}.")
    say.print(f"Sent {known[what]('127.0.0.1', port, seconds):,} messages to port {port}.")


@app.command()
def farm_key(
    path: Annotated[Path, typer.Argument(metavar="FILE", help="Path of the new key; copy it to all machines.")],
) -> None:
    """Make the key that the machines of a farm share."""
    from isbjorn.core.deliver.farm.keys import make_key

    make_key(path)
    say.print(f"{path}: keep it secret. Anyone who has it can run code on the farm.")


def _purpose(name: str):  # type: ignore[no-untyped-def]
    """A purpose by its name or its file; None without one."""
    from isbjorn.core.deliver.purposes import purpose_from_text, shipped

    if not name:
        return None
    path = Path(name)
    return purpose_from_text(path.read_bytes(), name) if path.is_file() else shipped(name)


def _pair(text: str) -> tuple[int, int]:
    if not text:
        return 0, 0
    hit = re.fullmatch(r"(\d{1,5})(?:,(\d{1,5}))?", text.replace(" ", ""))
    if not hit:
        raise IsbjornError(
            f"'{text}' is not a pair of handles.", "--handles", "Write, for example, 8,8: frames before and after."
        )
    return int(hit[1]), int(hit[2] or hit[1])


def _dry_run(document, order, plates, project: str) -> None:  # type: ignore[no-untyped-def]
    from isbjorn.core.inspect.delivery_preview import delivery_preview
    from isbjorn.core.inspect.guides import guides

    found = delivery_preview(document, order, guides(document).far_px, plates, project)
    if found.refused:
        raise IsbjornError(found.refused, found.where, found.remedy)
    say.print(f"{found.count} frames, {found.width} × {found.height} px, {found.rate} fps, {found.length_s:.2f} s")
    say.print(f"{found.folder}: {found.first}" + (f" … {found.last}" if found.last else ""))
    say.print(
        f"about {found.bytes / 1e6:,.0f} MB of {found.free_bytes / 1e9:,.1f} GB free"
        + ("" if found.seconds is None else f", in about {found.seconds:,.0f} s")
    )
    for note in (found.alpha, found.sound, *(f"{n.what} {n.why}" for n in found.notes)):
        if note:
            say.print(note)


@app.command()
def points(
    shot: ShotName,
    frame: Annotated[int, typer.Option(help="Frame number.")],
    out: Annotated[Path, typer.Option(help="FILE.csv, FILE.parquet or FILE.npz")],
    data: Data = _HOME,
) -> None:
    """Write the particles of a frame as a table."""
    from isbjorn.core import Solver
    from isbjorn.core.media.exchange.points import write_points

    document, plates, _ = _shot(shot, data)
    found = Solver(document, plates=plates).at(frame)
    write_points(document, found, out)
    say.print(f"{len(found)} particles of frame {frame} in {out}")


@app.command()
def schema() -> None:
    """Print the JSON Schema of a shot file."""
    from isbjorn.core.document.files import shot_schema

    print(json.dumps(shot_schema(), indent=1, ensure_ascii=False))


@app.command()
def bench(
    as_json: Annotated[bool, typer.Option("--json", help="Print one JSON object.")] = False,
    only: Annotated[str, typer.Option(help="Only measurements whose name contains this.")] = "",
    quick: Annotated[
        bool, typer.Option("--quick", help="Only the comparisons and the start; about two minutes.")
    ] = False,
) -> None:
    """Measure the engine and the studio on this machine."""
    from isbjorn.bench.run import measure

    began = time.monotonic()

    def report(name: str, number: int, total: int, value: object) -> None:
        if value is None:
            say.print(f"[dim]{number} of {total}: {name} …[/]")
        elif not as_json:
            print(f"{name:32} {json.dumps(value)}", flush=True)

    found = measure(only, quick, report)
    if as_json:
        print(json.dumps(found, indent=1))
    say.print(f"{len(found)} measurements in {time.monotonic() - began:.0f} s")


@app.command()
def doctor() -> None:
    """Check that everything needed is here, and compile the engine's kernels."""
    from isbjorn.doctor import examine

    problems = 0
    for name, fine, note in examine():
        problems += not fine
        say.print(f"[{'green' if fine else 'red'}]{'ok ' if fine else 'bad'}[/] {name}: {note}")
    raise typer.Exit(1 if problems else 0)


@app.command()
def version() -> None:
    """Print the version."""
    print(__version__)


def _restore(data: Path) -> None:
    from isbjorn.studio.storage.backups import restore

    say.print(f"Restored the backup {restore(data).name}. The previous store was renamed to damaged-….")


def _range(text: str, first: int, last: int) -> tuple[int, int]:
    if not text:
        return first, last
    hit = re.fullmatch(r"(-?\d{1,8})(?:-(-?\d{1,8}))?", text.strip())
    if not hit:
        raise IsbjornError(
            f"'{text}' is not a range of frames.", "--frames", "Write, for example, 0-249, or one number."
        )
    return int(hit[1]), int(hit[2] or hit[1])


def _shot(name: str, data: Path):  # type: ignore[no-untyped-def]
    """A shot, the reader of its plates, and the name of its project, from a file or from the store."""
    from isbjorn.core.document.files import shot_from_text
    from isbjorn.core.media.read.plates import PlateReader

    path = Path(name)
    if path.is_file():
        return (
            shot_from_text(path.read_bytes(), str(path)),
            PlateReader(path.absolute().parent),
            path.absolute().parent.name,
        )
    if name.isascii() and name.isdigit() and len(name) < 19:
        from isbjorn.studio.storage.store import Store

        store = Store(data)
        return store.document(int(name)), PlateReader(store.media_folder), store.project_of(int(name)).name
    raise IsbjornError("this file does not exist.", name, "Give an exported shot, or the id of a shot in the store.")


def _refuse(error: IsbjornError) -> NoReturn:
    from rich.markup import escape

    what = escape(f"{error.what} {error.remedy}".rstrip())
    say.print(f"[red]{escape(error.where or 'Isbjorn')}[/]: {what}", soft_wrap=True)
    sys.exit(2)


def main() -> NoReturn:
    """Run, and turn what a person can mend into one line instead of a trace."""
    try:
        app(standalone_mode=False)
    except IsbjornError as error:
        _refuse(error)
    except ModuleNotFoundError as error:
        if (missing := missing_package(error)) is None:
            raise
        _refuse(missing)
    except (KeyboardInterrupt, typer.Abort):
        sys.exit(130)
    except typer.Exit as leave:
        sys.exit(leave.exit_code)
    except Exception as error:
        show = getattr(error, "show", None)
        if show is None:
            raise
        show()
        sys.exit(getattr(error, "exit_code", 2))
    sys.exit(0)
