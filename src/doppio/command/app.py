"""The commands and how their errors are told: exit status 2 with a message that a person can act on."""

import sys

import typer

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
    """Doppio: tune retrieval for a question-answering assistant."""


app.command()(trial)


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
