"""`./doppio store`: where artifacts are, and how they get to a store that several machines share."""

import os
from pathlib import Path

import typer

from doppio.command.show import err, out
from doppio.core.errors import DoppioError
from doppio.core.store.shared import SharedStore, send_all

app = typer.Typer(help="Where chunks and indexes are kept.", no_args_is_help=True, rich_markup_mode=None)


@app.command("show")
def show() -> None:
    """Say where artifacts are, how many there are, and whether the store answers."""
    _ready()
    from doppio.recipes.artifacts import local_store, reach, store

    found = store()
    if not isinstance(found, SharedStore):
        out.print(f"{found.root}, this machine's own folder: {_size(found.root) or 'empty'}")
        out.print("Set DOPPIO_STORE to share artifacts between machines; docs/scale.md says how.")
        return
    out.print(reach())
    out.print(f"{found.root}, what this machine has of it: {_size(found.root) or 'nothing yet'}")
    if left := _size(local_store().root):
        out.print(f"{local_store().root}, from before: {left}; './doppio store send' carries it over")


@app.command("send")
def send() -> None:
    """Carry what this machine's own folder holds to the store that is shared; what is there already stays."""
    _ready()
    from doppio.recipes.artifacts import local_store, reach, store

    found = store()
    if not isinstance(found, SharedStore):
        raise DoppioError("DOPPIO_STORE is not set: it says where artifacts shall go, such as s3://bucket/doppio")
    reach()
    carried = send_all(local_store(), found, lambda name, size: err.print(f"  {name}, {size / 1e6:,.1f} MB"))
    out.print(f"{carried:,} artifacts and lists are in {found.far.url} that were not there.")


def _ready() -> None:
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "doppio.site.settings")
    import django

    django.setup()


def _size(root: Path) -> str:
    sizes = [path.stat().st_size for path in root.glob("[!.]*/*.npy")]
    count = len(list(root.glob("[!.]*/manifest.json")))
    return f"{count:,} artifacts, {sum(sizes) / 1e6:,.1f} MB" if count else ""
