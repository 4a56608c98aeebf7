"""Commands that are imported when they are run: what they stand on takes seconds, and most need none of it."""

from importlib import import_module
from typing import NamedTuple

import typer
from typer.core import TyperGroup


class Lazy(NamedTuple):
    """Where a command is found, and what the help says of it."""

    module: str
    name: str
    help: str


COMMANDS = {
    "trial": Lazy(
        "trial", "trial", "Measure recipes against labelled questions, say where answers were lost, and hold a gate."
    ),
    "sweep": Lazy(
        "sweep",
        "sweep",
        "Try settings, prefer a broad height to a lone peak, and say what the choice is worth on unseen questions.",
    ),
    "bench": Lazy(
        "bench",
        "bench",
        "Time the demo's questions stage by stage, cutting, the engines, the joint scorer, or comparisons.",
    ),
    "backup": Lazy("backup", "backup", "Write a backup of all records and files, whether Doppio runs or not."),
    "restore": Lazy(
        "backup", "restore", "Put records and files back as a backup has them; what is there now is kept aside."
    ),
    "model": Lazy("models", "app", "Encoders and joint scorers that recipes can name."),
    "workspace": Lazy("workspace", "app", "A workspace as one file: export and import."),
    "assistant": Lazy(
        "assistant",
        "assistant",
        "Offer a published recipe as tools of a local assistant, by the Model Context Protocol.",
    ),
    "worker": Lazy(
        "worker",
        "worker",
        "Lend this machine's cores to the Dask cluster that a Doppio builds, tries settings and asks shards on.",
    ),
    "store": Lazy("store", "app", "Where chunks and indexes are kept."),
    "stand-in": Lazy("stand_in", "stand_in", "Run an endpoint for what recipes can name, answered by this machine."),
}
MOST = 200


class Lazily(TyperGroup):
    """A group that knows these commands by name and imports one when it is asked for."""

    def list_commands(self, ctx):  # type: ignore[no-untyped-def]
        return [*super().list_commands(ctx), *COMMANDS]

    def get_command(self, ctx, cmd_name):  # type: ignore[no-untyped-def]
        lazy = COMMANDS.get(cmd_name)
        if lazy is None:
            return super().get_command(ctx, cmd_name)
        found = getattr(import_module(f"doppio.command.{lazy.module}"), lazy.name)
        if not isinstance(found, typer.Typer):
            alone = typer.Typer(add_completion=False, rich_markup_mode=None, pretty_exceptions_enable=False)
            alone.command(cmd_name)(found)
            found = alone
        return typer.main.get_command(found)

    def format_commands(self, ctx, formatter):  # type: ignore[no-untyped-def]
        rows = []
        for name in self.list_commands(ctx):
            command = None if name in COMMANDS else super().get_command(ctx, name)
            rows.append((name, command.get_short_help_str(MOST) if command else COMMANDS[name].help))
        with formatter.section("Commands"):
            formatter.write_dl(rows)
