"""The command line: fernfield demo, serve, import, handover, check, backup, restore, doctor, bench."""

from __future__ import annotations

import os
import sys
import threading
import time
from collections.abc import Callable
from enum import StrEnum
from importlib.metadata import version
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import pydantic
import sqlalchemy.exc
import typer

from fernfield.core.errors import FernError, InvalidInput, of_disk

if TYPE_CHECKING:
    from starlette.datastructures import State

    from fernfield.web.kernel.gate.access import Access
    from fernfield.work.warm import Beside

app = typer.Typer(
    help="Shape, cover, sow and walk large outdoor worlds, and hand them over as open files.",
    no_args_is_help=True,
    rich_markup_mode=None,
    add_completion=False,
    pretty_exceptions_enable=False,
)

Host = Annotated[str, typer.Option(help="Address to listen on.", envvar="FERNFIELD_HOST")]
Port = Annotated[int, typer.Option(help="Port to listen on; 0 takes any.", envvar="FERNFIELD_PORT", min=0, max=65535)]
Data = Annotated[Path, typer.Option(help="The one folder that everything is kept in.", envvar="FERNFIELD_DATA")]
DATA = Path.home() / ".fernfield"


Certificate = Annotated[
    Path | None, typer.Option(help="Speak TLS with this certificate (PEM).", envvar="FERNFIELD_CERTIFICATE")
]
KeyFile = Annotated[Path | None, typer.Option(help="The certificate's private key (PEM).", envvar="FERNFIELD_KEY")]


def _may_listen(host: str, access: Access, tls: bool) -> None:
    """Raises InvalidInput where strangers could come in; warns where they could listen."""
    from fernfield.web.kernel.gate.access import is_here

    if is_here(host):
        return
    if not access.needed:
        raise InvalidInput(
            f"everybody who reaches {host} could change everything: set an access phrase first (FERNFIELD_PHRASE, or "
            "fernfield phrase, which makes one)"
        )
    if not tls:
        typer.echo("Warning: what goes over the line is not encrypted; --certificate and --key speak TLS.", err=True)


def _log_lines() -> None:
    """A line of JSON for each request, job and fault, on standard error."""
    import logging

    from pythonjsonlogger.json import JsonFormatter

    handler = logging.StreamHandler()
    handler.setFormatter(JsonFormatter("{asctime}{levelname}{name}{message}", style="{"))
    log = logging.getLogger("fernfield")
    log.addHandler(handler)
    log.setLevel(logging.INFO)
    log.propagate = False


def _shows(words: str) -> None:
    """How far something is: on a terminal in one line that changes, else in a line of its own."""
    if sys.stdout.isatty():
        sys.stdout.write(f"\r\033[K{words} …")
    else:
        sys.stdout.write(f"{words} …\n")
    sys.stdout.flush()


def _tell(beside: Beside, page: State) -> None:
    """Say how far the compiling is, while the server answers already; a tool that is used before waits for its own."""

    def told(done: int, of: int) -> None:
        page.compiling = done, of
        _shows(f"Compiling the tools, the first time on this machine: {done} of {of}")

    def follow() -> None:
        beside.follow(told)
        _shows("All tools are compiled")

    threading.Thread(target=follow, daemon=True).start()


def _run(host: str, port: int, data: Path, certificate: Path | None, key: Path | None, *, demo: bool) -> None:
    import uvicorn

    from fernfield.demo.reach import build_demo
    from fernfield.web.app import create_app
    from fernfield.web.kernel.gate.access import Access
    from fernfield.web.kernel.settings import Settings
    from fernfield.work.kernel.memory import keep_together
    from fernfield.work.studio import Studio
    from fernfield.work.warm import SEEN, compiling, warm_kernels

    settings = Settings(host=host, port=port, data=data, certificate=certificate, key=key)
    tls = settings.certificate is not None
    for name, file in (("certificate", settings.certificate), ("key", settings.key)):
        if file is not None and not file.is_file():
            raise InvalidInput(f"there is no file {file} ({name})", name)
    if (settings.certificate is None) != (settings.key is None):
        raise InvalidInput("a certificate and its key go together: --certificate and --key", "key")
    _may_listen(host, Access(data, settings.phrase, settings.look_phrase), tls)
    if settings.log:
        _log_lines()
    keep_together()
    beside = compiling()
    studio = Studio(data, settings.logbook_mib, workers=settings.workers, cluster=settings.cluster)
    path = ""
    if demo:
        _shows("Bringing in Sallow Reach")
        path = f"worlds/{build_demo(studio)}"
    if beside is None:
        # They only have to be read: meanwhile others are answered, and whoever needs one first reads that one.
        threading.Thread(target=warm_kernels, daemon=True).start()
    else:
        # Looking comes first; the hands' tools are compiled meanwhile, and while the first page is looked at.
        _shows("Compiling what draws the pictures, the first time on this machine")
        warm_kernels(steps=SEEN)
    application = create_app(studio, settings, build_demo)
    if beside is not None:
        _tell(beside, application.state)
    config = uvicorn.Config(
        application,
        host=host,
        port=port,
        log_level="warning",
        ws="websockets-sansio",
        ws_per_message_deflate=False,
        ws_max_size=1 << 20,
        # What a busy page has sent is read before its answer to a ping is.
        ws_ping_interval=30,
        ws_ping_timeout=120,
        timeout_graceful_shutdown=3,
        ssl_certfile=settings.certificate,
        ssl_keyfile=settings.key,
    )
    server = uvicorn.Server(config)
    socket = config.bind_socket()
    # From here on a connection is taken, so that the address that is printed works at once.
    socket.listen(128)
    shown = f"[{host}]" if ":" in host else host
    if sys.stdout.isatty():
        typer.echo("")
    typer.echo(
        f"Fern Field is at http{'s' if tls else ''}://{shown}:{socket.getsockname()[1]}/{path}  (Ctrl+C stops it)"
    )
    sys.stdout.flush()
    server.run(sockets=[socket])


@app.command()
def serve(
    host: Host = "127.0.0.1", port: Port = 8127, data: Data = DATA, certificate: Certificate = None, key: KeyFile = None
) -> None:
    """Start the application on a data folder."""
    _run(host, port, data, certificate, key, demo=False)


@app.command()
def demo(
    host: Host = "127.0.0.1", port: Port = 8127, data: Data = DATA, certificate: Certificate = None, key: KeyFile = None
) -> None:
    """Start the application with the demo world Sallow Reach (made when it is not there)."""
    _run(host, port, data, certificate, key, demo=True)


@app.command()
def phrase(
    look: Annotated[bool, typer.Option("--look", help="A phrase to come in and look only.")] = False,
    data: Data = DATA,
) -> None:
    """Make an access phrase for a data folder, in the place of an earlier one, and print it once."""
    from fernfield.web.kernel.gate.access import make_phrase

    typer.echo(make_phrase(data, "look" if look else "change"))


@app.command()
def token(
    name: Annotated[str, typer.Argument(help="Whose it is: stands beside its edits in the logbook.")],
    look: Annotated[bool, typer.Option("--look", help="It may look only.")] = False,
    data: Data = DATA,
) -> None:
    """Make a token for a script (Authorization: Bearer …) and print it; taking DATA/key away ends all of them."""
    from fernfield.web.kernel.gate.access import token_for

    typer.echo(token_for(data, name[:40], "look" if look else "change"))


@app.command("import")
def import_(
    file: Annotated[
        Path, typer.Argument(help="PNG, TIFF or GeoTIFF, ESRI ASCII grid, raw samples, NumPy array, OBJ or glTF.")
    ],
    name: Annotated[str, typer.Option(help="Name of the new world.")],
    spacing_m: Annotated[float | None, typer.Option(help="Metres between posts, where the file does not say.")] = None,
    lowest_m: Annotated[float | None, typer.Option(help="Elevation of the lowest sample; a PNG needs it.")] = None,
    highest_m: Annotated[float | None, typer.Option(help="Elevation of the highest sample; a PNG needs it.")] = None,
    sea_level_m: Annotated[float, typer.Option(help="Sea level.")] = 0.0,
    format: Annotated[str | None, typer.Option(help="png, tiff, asc, npy, gltf, obj or raw; told by content.")] = None,
    rows: Annotated[int | None, typer.Option(help="Rows of a raw file.")] = None,
    cols: Annotated[int | None, typer.Option(help="Columns of a raw file.")] = None,
    sample: Annotated[str | None, typer.Option(help="Samples of a raw file: u16, i16 or f32.")] = None,
    byte_order: Annotated[str, typer.Option(help="Of a raw file: little or big.")] = "little",
    nodata: Annotated[float | None, typer.Option(help="Sample that stands for no elevation.")] = None,
    fill: Annotated[str | None, typer.Option(help="What fills posts without elevation: around or lowest.")] = None,
    smooth_steps: Annotated[bool, typer.Option(help="Take the steps out of whole-number samples.")] = False,
    turn_deg: Annotated[int, typer.Option(help="Turn it clockwise: 90, 180 or 270.")] = 0,
    flip: Annotated[bool, typer.Option(help="Mirror it east for west.")] = False,
    up: Annotated[str, typer.Option(help="Axis of an OBJ that points up: y or z.")] = "y",
    data: Data = DATA,
) -> None:
    """Make a world from an elevation file; prints its id."""
    import shutil
    import tempfile

    from fernfield.work.studio import Studio
    from fernfield.work.worlds.intake import Placing, Reading

    read = {"format": format, "rows": rows, "cols": cols, "sample": sample, "byte_order": byte_order, "up": up}
    reading = Reading.model_validate({**read, "nodata": nodata, "sampled_m": spacing_m})
    scale = {"spacing_m": spacing_m, "lowest_m": lowest_m, "highest_m": highest_m, "turn_deg": turn_deg, "flip": flip}
    placing = Placing.model_validate({**scale, "fill": fill, "smooth_steps": smooth_steps})
    studio = Studio(data)
    try:
        handle, copy = tempfile.mkstemp(dir=data / "incoming")
        os.close(handle)
        shutil.copyfile(file, copy)
        kept = studio.waiting.add(Path(copy), file.name)
        typer.echo(_wait(studio.start_import(kept, name, reading, placing, sea_level_m))["world"])
    finally:
        studio.close()


@app.command()
def handover(
    world: Annotated[str, typer.Argument(help="Id of the world.")],
    to: Annotated[Path, typer.Argument(help="The ZIP to write.")],
    data: Data = DATA,
    delivery: Annotated[str | None, typer.Option(help="Key of a delivery, if it is one.")] = None,
) -> None:
    """Write the package of a world, or a delivery of it."""
    from shutil import copyfile

    from fernfield.work.studio import Studio

    studio = Studio(data)
    try:
        if delivery is None:
            revision = _wait(studio.start_handover(world))["revision"]
            studio.copy_package(world, to)
        else:
            revision = _wait(studio.start_delivery(world, delivery))["revision"]
            copyfile(studio.package_file(world, f"{delivery}-r{revision}"), to)
        typer.echo(f"{to} holds r{revision}")
    finally:
        studio.close()


@app.command()
def receive(
    url: Annotated[str, typer.Argument(help="Address of a world, or a package as a file.")],
    folder: Annotated[Path, typer.Argument(help="Where the copy lies.")],
    token: Annotated[str | None, typer.Option(help="For a server that asks for one.")] = None,
    once: Annotated[bool, typer.Option(help="Stop as soon as the copy is what the world is.")] = False,
) -> None:
    """Keep a copy of a world in step with it, or take a package, as an engine beside the editor would."""
    from fernfield.receiver import Receiver, Refused, take_package

    try:
        if Path(url).is_file():
            told = take_package(Path(url), folder)
            typer.echo(f"r{told['revision']}: {len(told['files'])} files, all as their manifest says")
            return
        Receiver(url, folder, token, typer.echo).follow(once=once)
    except Refused as error:
        _fail(str(error), 1)
    except KeyboardInterrupt:
        typer.echo("stopped")


@app.command()
def replay(
    world: Annotated[str, typer.Argument(help="Id of the world.")],
    script: Annotated[Path, typer.Argument(help="A logbook as a script (.jsonl).")],
    data: Data = DATA,
) -> None:
    """Do what another world's logbook says once more; exit status 1 where something of it could not be done."""
    from fernfield.work.replaying import lines_of
    from fernfield.work.replaying import replay as again
    from fernfield.work.studio import Studio

    studio = Studio(data)
    try:
        told = again(studio.world(world), lines_of(script.read_bytes().splitlines()), None, 0.0, 0.0)
    finally:
        studio.close()
    for one in told["left_out"]:
        typer.echo(f"r{one['number']}, {one['words']}: {one['why']}")
    typer.echo(f"{told['done']} done, {len(told['left_out'])} left out: r{told['revision']}")
    raise typer.Exit(1 if told["left_out"] else 0)


class Shown(StrEnum):
    """How findings are printed."""

    text = "text"
    json = "json"
    sarif = "sarif"
    junit = "junit"


class Weighs(StrEnum):
    """How bad a finding is, at least."""

    grave = "grave"
    note = "note"


@app.command()
def check(
    world: Annotated[str, typer.Argument(help="Id of the world.")],
    shown: Annotated[Shown, typer.Option("--format", help="For people, or for machines.")] = Shown.text,
    weight: Annotated[Weighs, typer.Option(help="Exit with 1 where something weighs as much as this.")] = Weighs.grave,
    data: Data = DATA,
) -> None:
    """Print what the checks find in a world; exit status 1 where something weighs enough and was not accepted."""
    from fernfield.formats.reports import Line, as_json, as_junit, as_sarif
    from fernfield.work.studio import Studio

    studio = Studio(data)
    try:
        found, checks = studio.findings(world), studio.checks
    finally:
        studio.close()
    lines = [
        Line(one.id, one.finding.check, one.stage, one.weight, one.finding.words, one.finding.remedy, world,
             one.finding.tract, one.finding.x, one.finding.y, one.accepted)
        for one in found
    ]  # fmt: skip
    if shown is Shown.json:
        typer.echo(as_json(lines))
    elif shown is Shown.sarif:
        typer.echo(as_sarif(lines, version("fernfield")))
    elif shown is Shown.junit:
        typer.echo(as_junit(lines, checks))
    else:
        for one in lines:
            accepted = "" if one.accepted is None else f" (accepted: {one.accepted})"
            typer.echo(f"{one.weight}: {one.words} {one.remedy}{accepted}")
        if not lines:
            typer.echo("nothing found")
    enough = {"grave"} if weight is Weighs.grave else {"grave", "note"}
    raise typer.Exit(1 if any(one.weight in enough and one.accepted is None for one in lines) else 0)


def _told() -> Callable[[float, str], None]:
    """Says how far long work is, a line for each step and each tenth of it."""
    last = ["", -1]

    def say(done: float, words: str) -> None:
        if [words, int(10 * done)] != last:
            last[:] = [words, int(10 * done)]
            typer.echo(f"{100 * done:3.0f} %  {words}", err=True)

    return say


@app.command()
def backup(
    to: Annotated[Path, typer.Argument(help="The new folder that the backup goes into.")],
    data: Data = DATA,
) -> None:
    """Make a whole copy of a data folder, also while people work on it."""
    from fernfield.work.keeping import backup as make

    about = make(data, to, _told())
    typer.echo(f"{to} holds {len(about['files'])} files of {about['made_at']}")


@app.command()
def restore(
    backup: Annotated[Path, typer.Argument(help="A folder that fernfield backup made.")],
    data: Data = DATA,
) -> None:
    """Bring a backup back as a new data folder; nothing is ever replaced."""
    from fernfield.work.keeping import restore as bring_back

    about = bring_back(backup, data, _told())
    typer.echo(f"{data} is as it was at {about['made_at']}")


@app.command()
def doctor(
    mend: Annotated[bool, typer.Option("--mend", help="Mend what can be mended.")] = False,
    data: Data = DATA,
) -> None:
    """Check a data folder that no server has open; exit status 1 when something is wrong and was not mended."""
    from fernfield.work.keeping import examine

    found, sizes = examine(data, mend=mend, say=_told())
    for world, what, count, size in sizes:
        typer.echo(f"{world}  {what:<24} {count:>8,} tiles {size / 2**20:>10.1f} MiB")
    for trouble in found:
        done = "mended" if trouble.mended else "to mend" if trouble.mend else "wrong"
        typer.echo(f"{done}: {trouble.words} {trouble.mend}".rstrip())
    if not found:
        typer.echo("nothing is wrong")
    raise typer.Exit(1 if any(not trouble.mended for trouble in found) else 0)


@app.command()
def bench(
    quick: Annotated[bool, typer.Option(help="Fewer runs, and no grid of 4,097 posts a side.")] = False,
    browser: Annotated[bool, typer.Option(help="Measure pointer to pixels in a browser too.")] = True,
) -> None:
    """Measure speed, each row beside its yardstick in the same run."""
    from fernfield.bench import run_bench

    run_bench(quick=quick, browser=browser)


def _wait(job: object) -> dict[str, object]:
    from fernfield.work.kernel.jobs import Job

    assert isinstance(job, Job)
    while not job.ended:
        time.sleep(0.05)
    if job.state != "done" or job.result is None:
        raise FernError(job.message)
    return job.result


def main() -> None:
    """Run the command line; an error is one clear line, exit status 1; a call whose words are off is 2."""
    try:
        app()
    except (FernError, pydantic.ValidationError) as error:
        _fail(str(error).replace("\n", " "), 1)
    except sqlalchemy.exc.DatabaseError as error:
        _fail(f"the database cannot be used: {error.orig}", 1)
    except OSError as error:
        if (meant := of_disk(error)) is not None and not error.filename:
            _fail(str(meant), 1)
        _fail(f"{error.strerror or error}{f': {error.filename}' if error.filename else ''}", 1)


def _fail(words: str, status: int) -> None:
    typer.echo(f"fernfield: {words}", err=True)
    sys.exit(status)


if __name__ == "__main__":
    main()
