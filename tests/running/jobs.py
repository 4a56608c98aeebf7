"""What is run: linters and type checks as programs, and every test class."""

import importlib
import sys
import unittest
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from doppio.launch.places import ROOT, VAR, WEB

BIN, NODE = Path(sys.executable).parent, WEB / "node_modules" / ".bin"
PYTHON = ("src", "tests", "docs", "bench", "demo/make", "training")
SUITES = ("tests.core", "tests.launch", "tests.running", "tests.server", "tests.browser")


@dataclass(frozen=True)
class Check:
    """Programs that are run one after another, each in its folder; all have to end well."""

    name: str
    commands: tuple[tuple[tuple[str, ...], Path], ...]


@dataclass(frozen=True)
class Tests:
    """A test class, or some tests of it."""

    name: str
    tests: tuple[str, ...]


def checks() -> list[Check]:
    schema = VAR / "openapi.json"
    manage = (sys.executable, "-m", "doppio", "manage", "spectacular", "--format", "openapi-json", "--fail-on-warn")

    def one(name: str, *command: str, folder: Path = ROOT) -> Check:
        return Check(name, ((command, folder),))

    return [
        one("ruff", str(BIN / "ruff"), "check", *PYTHON),
        one("ruff format", str(BIN / "ruff"), "format", "--check", "-q", *PYTHON),
        one("mypy", str(BIN / "mypy")),
        one("import-linter", str(BIN / "lint-imports")),
        Check(
            "schema and types of the API",
            (
                ((*manage, "--file", str(schema)), ROOT),
                ((str(NODE / "openapi-typescript"), str(schema), "-o", "src/api/schema.d.ts", "--check"), WEB),
            ),
        ),
        one("tsc", str(WEB / "node_modules" / "typescript-native" / "bin" / "tsc"), "--noEmit", folder=WEB),
        one("eslint", str(NODE / "eslint"), ".", "--max-warnings", "0", folder=WEB),
        one("prettier", str(NODE / "prettier"), "--check", "src", folder=WEB),
    ]


def tests(labels: Sequence[str]) -> list[Tests]:
    """Test classes below dotted names: suites, modules, classes or single tests.

    Raises
    ------
    SystemExit
        If a name is no test; says which.
    """
    loader = unittest.TestLoader()
    found: dict[str, list[str]] = {}
    for label in labels or SUITES:
        for test in _flat(_load(loader, label)):
            if isinstance(test, unittest.loader._FailedTest):  # type: ignore[attr-defined]
                sys.exit(f"{label}: cannot be loaded\n{test._exception}")
            name = f"{type(test).__module__}.{type(test).__qualname__}"
            found.setdefault(name, []).append(test.id())
    return [Tests(name, tuple(dict.fromkeys(ids))) for name, ids in found.items()]


def _load(loader: unittest.TestLoader, label: str) -> unittest.TestSuite:
    folder = ROOT / Path(*label.split("."))
    if folder.is_dir():
        return loader.discover(str(folder), top_level_dir=str(ROOT))
    return loader.loadTestsFromName(label)


def _flat(suite: unittest.TestSuite) -> Iterator[unittest.TestCase]:
    for test in suite:
        if isinstance(test, unittest.TestSuite):
            yield from _flat(test)
        else:
            yield test


def suite(job: Tests) -> unittest.TestSuite:
    """The tests of a class, ready to run."""
    module, _, name = job.name.rpartition(".")
    case = getattr(importlib.import_module(module), name)
    return unittest.TestSuite(case(test.rpartition(".")[2]) for test in job.tests)
