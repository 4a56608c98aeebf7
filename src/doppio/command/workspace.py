"""`./doppio workspace`: a workspace as one file, out and in."""

from pathlib import Path
from typing import Annotated

import typer

from doppio.command.backup import running
from doppio.command.paths import VAR
from doppio.command.show import out, progress_bars
from doppio.core.errors import DoppioError
from doppio.launch.cluster import Cluster

app = typer.Typer(no_args_is_help=True, add_completion=False, help="A workspace as one file: export and import.")


@app.command("export")
def export_workspace(
    name: Annotated[str, typer.Argument(help="The workspace's name.")],
    file: Annotated[Path, typer.Argument(help="The file to write, a ZIP.")],
    indexes: Annotated[
        bool, typer.Option("--indexes", help="With what was built, so that nothing is built again.")
    ] = False,
) -> None:
    """Write a workspace with documents, questions, labels, recipes and trials into one file."""
    if not file.resolve().parent.is_dir():
        raise DoppioError(f"{file}: the folder {file.resolve().parent} does not exist")
    with running(Cluster(VAR)):
        _set_up()
        from doppio.library.carrying import pack
        from doppio.library.models import Workspace
        from doppio.library.workspaces import holdings

        found = Workspace.objects.filter(name=name, removed_at=None).first()
        if found is None:
            there = ", ".join(Workspace.objects.filter(removed_at=None).values_list("name", flat=True))
            raise DoppioError(f"{name}: no such workspace; there are {there}")
        draft = file.with_name(f".{file.name}.draft")
        try:
            with progress_bars() as bars:
                pack(found, draft, bars, attachments=indexes)
            draft.rename(file)
        finally:
            draft.unlink(missing_ok=True)
        held = holdings(found)
    counts = ", ".join(f"{held[name]:,} {name}" for name in ("documents", "questions", "labels", "recipes", "trials"))
    out.print(f"{file}: {counts}, {file.stat().st_size / (1 << 20):,.1f} MiB")


@app.command("import")
def import_workspace(
    file: Annotated[Path, typer.Argument(help="A file that was exported from a workspace.")],
    owner: Annotated[str, typer.Option(help="Who owns it.")] = "engineer",
    name: Annotated[str, typer.Option(help="What it is called; as in the file where it is left out.")] = "",
) -> None:
    """Make a workspace of a file: all of it, or nothing."""
    with running(Cluster(VAR)):
        _set_up()
        from django.contrib.auth.models import User

        from doppio.library.carrying import unpack

        user = User.objects.filter(username=owner).first()
        if user is None:
            raise DoppioError(f"--owner: nobody is called {owner!r}")
        with progress_bars() as bars:
            made = unpack(file, user, name, bars, attachments=True)
    out.print(f"{made.name}: {made.documents.count():,} documents, {made.questions.count():,} questions")


def _set_up() -> None:
    import django

    django.setup()
