"""The commands and how their errors are told: exit status 2 with a message that a person can act on."""

import sys
from typing import Annotated

import typer

from doppio.command.checks import test
from doppio.command.lazily import Lazily
from doppio.command.serving import demo, manage, serve
from doppio.command.show import err
from doppio.core.errors import DoppioError
from doppio.launch.errors import LaunchError, told_of

app = typer.Typer(
    cls=Lazily,
    add_completion=False,
    no_args_is_help=True,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
)


@app.callback()
def doppio() -> None:
    """Doppio: see at which stage an answer is lost, and tune retrieval until it is not."""


app.command()(demo)
app.command()(serve)
app.command(context_settings={"allow_extra_args": True, "ignore_unknown_options": True, "help_option_names": []})(
    test
)


@app.command()
def setup() -> None:
    """Install what is missing, and nothing more."""
    typer.echo("All that Doppio needs is there.")


@app.command("manage", context_settings={"ignore_unknown_options": True, "help_option_names": []})
def manage_command(arguments: Annotated[list[str] | None, typer.Argument()] = None) -> None:
    """Run a management command of the server, such as `migrate`, `createsuperuser` or `work`."""
    manage(arguments or [])


@app.command("help")
def show_help(context: typer.Context) -> None:
    """Show this help."""
    typer.echo(context.parent.get_help() if context.parent else "")


def main() -> None:
    """Run the command line."""
    try:
        app(prog_name="./doppio")
    except (DoppioError, LaunchError) as error:
        err.print(f"doppio: {error}", markup=False, soft_wrap=True)
        sys.exit(2)
    except OSError as error:
        told = told_of(error)
        if told is None:
            raise
        err.print(f"doppio: {told}", markup=False, soft_wrap=True)
        sys.exit(2)
    except KeyboardInterrupt:
        err.print("doppio: stopped")
        sys.exit(130)
