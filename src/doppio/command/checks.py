"""`./doppio test`: all linters, type checks and test suites, run by `tests/running`."""

import os
import sys

import typer

from doppio.launch.places import ROOT


def test(context: typer.Context) -> None:
    """Run all checks and tests, or those that are named; `./doppio test --help` has the options."""
    os.environ["PYTHONPATH"] = os.pathsep.join((str(ROOT / "src"), str(ROOT)))
    os.chdir(ROOT)
    sys.stdout.flush()
    os.execv(sys.executable, [sys.executable, "-m", "tests.running", *context.args])
