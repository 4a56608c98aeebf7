"""The commands and how their errors are told: exit status 2 with a message that a person can act on."""

import sys
from typing import Annotated

import typer

from doppio.command.bench import bench
from doppio.command.checks import test
from doppio.command.models import app as model_app
from doppio.command.models import stand_in
from doppio.command.serving import demo, manage, serve
from doppio.command.setup import set_up
from doppio.command.show import err
from doppio.command.trial import trial
from doppio.core.errors import DoppioError

app = typer.Typer(
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
app.command()(trial)
app.command()(bench)
app.command()(test)
app.add_typer(model_app, name="model")
app.command("stand-in")(stand_in)


@app.command()
def setup() -> None:
    """Install what is missing, and nothing more."""
    set_up(browser=False)


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
    except DoppioError as error:
        err.print(f"doppio: {error}", markup=False, soft_wrap=True)
        sys.exit(2)
    except KeyboardInterrupt:
        err.print("doppio: stopped")
        sys.exit(130)
