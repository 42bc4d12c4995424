"""Starting the program, and looking after its folder."""

from __future__ import annotations

import os
import sys
from pathlib import Path
from typing import Any

import click

from nivelus.cli.options import app, data_folder, print_json

port_option = click.option("--port", type=click.IntRange(1, 65535), help="Port to listen on; 8130 if nothing else is set.")


@app.command()
@port_option
@data_folder
@click.option("--host", help="Address to listen on; any but this machine needs NIVELUS_TOKEN.")
@click.option("--demo/--no-demo", default=True, help="Put the demo sessions into a new data folder.")
def serve(port: int | None, data: Path | None, host: str | None, demo: bool) -> None:
    """Start the program on your own sessions."""
    _serve(port, data, host, demo)


@app.command()
@port_option
@data_folder
def demo(port: int | None, data: Path | None) -> None:
    """Start the program on the demo sessions: an audio guide, a feature for two voices, and a song."""
    named = os.environ.get("NIVELUS_DATA")
    folder = data or (Path(named) if named else Path.home() / ".local" / "share" / "nivelus-demo")
    _serve(port, folder, "127.0.0.1", True)


@app.command()
@data_folder
@click.option("--repair", is_flag=True, help="Repair what can be repaired; Nivelus must not be running.")
def check(data: Path | None, repair: bool) -> None:
    """Look over the database, its copies, the recordings, and what was measured of them."""
    from nivelus.services.upkeep import checking
    from nivelus.settings import Settings
    from nivelus.store.lock import DataLock

    settings = Settings.read(**({"data": data} if data else {}))
    if repair:
        lock = DataLock(settings.data, patience=0.5)
        for sentence in checking.repair(settings):
            print(sentence)
        lock.release()
    faults = 0
    for finding in checking.check(settings):
        faults += not finding.good
        print(("" if finding.good else "! ") + finding.sentence)
    if faults:
        sys.exit(1)


@app.command(hidden=True)
def schema() -> None:
    """Print the OpenAPI document, from which the front end's types are made."""
    import tempfile

    from nivelus.settings import Settings
    from nivelus.web.app import create_app

    with tempfile.TemporaryDirectory() as folder:
        print_json(create_app(Settings(data=Path(folder)), described=True).api_doc)


@app.command(hidden=True)
def warm() -> None:
    """Compile the inner loops once, so that no later start has to wait for it."""
    from nivelus.core.deliver.warm import warm_kernels

    warm_kernels()


def _serve(port: int | None, data: Path | None, host: str | None, with_demo: bool) -> None:
    from nivelus.settings import Settings
    from nivelus.web.serve import serve as run

    given = {"port": port, "host": host, "data": data}
    settings = Settings.read(**{name: value for name, value in given.items() if value is not None})
    # recordings without a database are someone's work, which the demo would only hide
    is_new = not any((settings.data / name).exists() for name in ("nivelus.sqlite", "vault", "backups"))

    def prepare(bench: Any) -> None:
        if with_demo and is_new:
            from nivelus.demo.build import build_demo

            print("Building the demo sessions.", flush=True)
            build_demo(bench)

    run(settings, lambda sentence: print(sentence, flush=True), prepare)
