"""The command line: fernfield demo, serve, import, handover, check, bench."""

from __future__ import annotations

import os
import sys
import time
from pathlib import Path
from typing import Annotated

import pydantic
import typer

from fernfield.core.errors import FernError

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


def _run(host: str, port: int, data: Path, *, demo: bool) -> None:
    import uvicorn

    from fernfield.demo.reach import build_demo
    from fernfield.web.app import create_app
    from fernfield.web.kernel.settings import Settings
    from fernfield.work.studio import Studio
    from fernfield.work.warm import warm_kernels

    typer.echo("Compiling the kernels (a few seconds, the first time up to a minute) …")
    warm_kernels()
    settings = Settings(host=host, port=port, data=data)
    studio = Studio(data, settings.logbook_mib, workers=settings.workers, cluster=settings.cluster)
    path = ""
    if demo:
        typer.echo("Preparing the demo world Sallow Reach …")
        path = f"worlds/{build_demo(studio)}"
    config = uvicorn.Config(
        create_app(studio, settings),
        host=host,
        port=port,
        log_level="warning",
        ws="websockets-sansio",
        ws_per_message_deflate=False,
        ws_max_size=1 << 20,
        timeout_graceful_shutdown=3,
    )
    server = uvicorn.Server(config)
    socket = config.bind_socket()
    # From here on a connection is taken, so that the address that is printed works at once.
    socket.listen(128)
    shown = f"[{host}]" if ":" in host else host
    typer.echo(f"Fern Field is at http://{shown}:{socket.getsockname()[1]}/{path}  (Ctrl+C stops it)")
    sys.stdout.flush()
    server.run(sockets=[socket])


@app.command()
def serve(host: Host = "127.0.0.1", port: Port = 8127, data: Data = DATA) -> None:
    """Start the application on a data folder."""
    _run(host, port, data, demo=False)


@app.command()
def demo(host: Host = "127.0.0.1", port: Port = 8127, data: Data = DATA) -> None:
    """Start the application with the demo world Sallow Reach (made when it is not there)."""
    _run(host, port, data, demo=True)


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
) -> None:
    """Write the package of a world."""
    from fernfield.work.studio import Studio

    studio = Studio(data)
    try:
        revision = _wait(studio.start_handover(world))["revision"]
        studio.copy_package(world, to)
        typer.echo(f"{to} holds r{revision}")
    finally:
        studio.close()


@app.command()
def check(world: Annotated[str, typer.Argument(help="Id of the world.")], data: Data = DATA) -> None:
    """Print what the checks find in a world; exit status 1 when something is grave."""
    from fernfield.work.studio import Studio

    studio = Studio(data)
    try:
        found = studio.check(world)
    finally:
        studio.close()
    for finding in found:
        typer.echo(f"{'grave' if finding.grave else 'note'}: {finding.words} {finding.remedy}")
    if not found:
        typer.echo("nothing found")
    raise typer.Exit(1 if any(f.grave for f in found) else 0)


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
    except OSError as error:
        _fail(f"{error.strerror or error}{f': {error.filename}' if error.filename else ''}", 1)


def _fail(words: str, status: int) -> None:
    typer.echo(f"fernfield: {words}", err=True)
    sys.exit(status)


if __name__ == "__main__":
    main()
