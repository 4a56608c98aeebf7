"""`./doppio test`: set up, then all linters, type checks and test suites."""

import atexit
import os
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Annotated

import typer

from doppio.command.cluster import Cluster
from doppio.command.paths import ROOT, VAR, WEB
from doppio.command.serving import manage
from doppio.command.setup import set_up, step
from doppio.command.show import err

BIN = Path(sys.executable).parent
PYTHON = ("src", "tests", "docs", "bench", "demo/make", "training")
CORE_TESTS = [sys.executable, "-m", "unittest", "discover", "-s", "tests/core", "-t", "."]
OTHER_TESTS = ["tests.server", "tests.browser"]


def _checks() -> list[tuple[str, list[str], Path]]:
    schema = [sys.executable, "-m", "doppio", "manage", "spectacular", "--format", "openapi-json", "--fail-on-warn"]
    return [
        ("ruff", [str(BIN / "ruff"), "check", *PYTHON], ROOT),
        ("ruff format", [str(BIN / "ruff"), "format", "--check", "-q", *PYTHON], ROOT),
        ("mypy on the core", [str(BIN / "mypy")], ROOT),
        ("import-linter", [str(BIN / "lint-imports")], ROOT),
        ("schema of the API", [*schema, "--file", str(VAR / "openapi.json")], ROOT),
        ("types of the API", ["npm", "run", "--silent", "schema", "--", "--check"], WEB),
        ("tsc", ["npm", "run", "--silent", "types"], WEB),
        ("eslint", ["npm", "run", "--silent", "lint"], WEB),
        ("prettier", ["npm", "run", "--silent", "format"], WEB),
    ]


def test(
    suites: Annotated[list[str] | None, typer.Argument(help="Dotted names below tests; all where left out.")] = None,
    lint: Annotated[bool, typer.Option(help="Run linters and type checks too.")] = True,
) -> None:
    """Install what is missing and run all checks and tests."""
    err.print("Doppio test")
    set_up(browser=True)
    # The core needs neither the database nor the browser: its tests run beside everything else.
    core = None if suites else _Beside("tests of the core", CORE_TESTS)
    failed = [name for name, command, folder in _checks() if not _passes(name, command, folder)] if lint else []
    cluster = Cluster(VAR / "test", quick=True)
    for folder in ("artifacts", "files"):
        shutil.rmtree(VAR / "test" / folder, ignore_errors=True)
    step("test database", cluster.start)
    os.environ["DOPPIO_DATABASE"] = str(cluster.record)
    # Nothing that a test builds or asks may touch what the application keeps.
    os.environ["DOPPIO_ARTIFACTS"] = str(VAR / "test" / "artifacts")
    os.environ["DOPPIO_FILES"] = str(VAR / "test" / "files")
    # Tests send many requests that are refused on purpose.
    os.environ["DOPPIO_LOG"] = "ERROR"
    status = 0
    try:
        manage(["test", "--noinput", *(suites or OTHER_TESTS)])
    except SystemExit as ending:
        status = int(ending.code or 0)
    finally:
        cluster.stop()
    if core and not core.passed():
        failed.append(core.name)
    if failed:
        err.print(f"  checks that failed: {', '.join(failed)}")
    sys.exit(1 if failed or status else 0)


class _Beside:
    """A command that runs while other things do; what it says is told when it has ended."""

    def __init__(self, name: str, command: list[str]) -> None:
        self.name = name
        self._said = tempfile.TemporaryFile("w+")  # noqa: SIM115
        self._process = subprocess.Popen(
            command, cwd=ROOT, stdin=subprocess.DEVNULL, stdout=self._said, stderr=subprocess.STDOUT
        )
        atexit.register(self._process.kill)

    def passed(self) -> bool:
        """Wait for its end; whether it ended well."""
        status = self._process.wait()
        self._said.seek(0)
        err.print(f"  {self.name}\n{self._said.read()}", markup=False)
        return status == 0


def _passes(name: str, command: list[str], folder: Path) -> bool:
    begun = time.perf_counter()
    done = subprocess.run(command, cwd=folder, text=True, capture_output=True, stdin=subprocess.DEVNULL)
    took = f"({time.perf_counter() - begun:.1f} s)"
    if done.returncode == 0:
        err.print(f"  {name} ... passed {took}")
        return True
    err.print(f"  {name} ... failed {took}\n{done.stdout}{done.stderr}", markup=False)
    return False
