"""`./doppio ...`: what the command needs is installed, side by side; then the command itself takes over."""

import os
import shutil
import sys
import time
from collections.abc import Sequence
from pathlib import Path

from doppio.launch import debian, node, python
from doppio.launch.cluster import Cluster
from doppio.launch.errors import LaunchError
from doppio.launch.places import BEGUN, PYTHON, ROOT, VAR, is_stamped, secret_key, stamp
from doppio.launch.programs import run
from doppio.launch.steps import Step, do

LEARNED = [ROOT / "weights" / f"joint-english.{ending}" for ending in ("safetensors", "json")]
MODELS, WEIGHTS = VAR / "models", VAR / "weights"
NUMBA = Path(os.environ.get("NUMBA_CACHE_DIR", VAR / "numba"))
SHIPPED = {"encoder": "compact-english", "scorer": "joint-english", "others": "compact-english-int8"}
TITLES = {"encoder": "encoder", "scorer": "joint scorer", "others": "both in the other precision"}
APPLICATION = ("demo", "serve", "setup", "test")
WITH_MODELS = (*APPLICATION, "trial", "bench", "model", "stand-in")


def steps_for(command: str, arguments: list[str]) -> list[Step]:
    """What a command needs; nothing of it takes time once it is there."""
    checks = command == "test"
    locks = [python.RUN]
    if checks:
        locks.append(python.CHECKS)
    if command == "bench" and "engines" in arguments:
        locks.append(python.BENCHES)
    found = []
    if python.lacking([python.INSTALLER, *locks]) or not PYTHON.exists():
        found += [
            Step("Python environment", python.environment),
            Step("Python packages", lambda note: python.packages(locks, note), ("Python environment",)),
        ]
    if command in WITH_MODELS:
        found += _models([step.title for step in found])
    if command in APPLICATION:
        found += _kernels([step.title for step in found])
    if command in APPLICATION:
        packages = debian.missing(browser=checks)
        if packages:
            found.append(Step("Debian packages", lambda note: debian.ensure(packages, note)))
        found += [
            Step("database files", lambda _: _database(checks), ("Debian packages",) if packages else ()),
            Step("interface packages", lambda note: node.packages(checks=checks, note=note)),
            Step("interface", lambda _: node.interface(), ("interface packages",)),
        ]
    return found


def _models(before: Sequence[str]) -> list[Step]:
    """The shipped encoder and scorer, made from weights that are fetched and weights that lie here."""
    weights = python.WEIGHTS.read_bytes()
    learned = stamp(weights, *(path.read_bytes() for path in LEARNED))
    made_from = {"encoder": stamp(weights), "scorer": learned, "others": learned}
    lacking = [
        kind
        for kind, digest in made_from.items()
        if not is_stamped(MODELS / f"{kind}.stamp", digest) or not (MODELS / SHIPPED[kind]).is_dir()
    ]
    if not lacking:
        return []

    def make(kind: str) -> str:
        _run_module("doppio.command.shipped", kind, str(WEIGHTS))
        (MODELS / f"{kind}.stamp").write_text(made_from[kind])
        return "made"

    fetch = Step("model weights", lambda note: python.weights(WEIGHTS, note), _among(before, "Python environment"))
    needs = (fetch.title, *_among(before, "Python packages"))
    return [
        fetch,
        *(
            Step(TITLES[kind], lambda _, kind=kind: make(kind),
                 (*needs, TITLES["encoder"]) if kind == "others" and "encoder" in lacking else needs)
            for kind in lacking
        ),
    ]  # fmt: skip


def _kernels(before: Sequence[str]) -> list[Step]:
    """Loops that the first build and question run, compiled while other steps wait for the network."""
    made_from = stamp(*(path.read_bytes() for path in sorted((ROOT / "src" / "doppio" / "core").rglob("*.py"))))
    found = []
    for kind, title, needs in (
        ("sparse", "loops of the sparse index", _among(before, "Python packages")),
        ("dense", "loops of cutting and vectors", _among(before, "Python packages", TITLES["encoder"])),
    ):
        marker = NUMBA / f"{kind}.stamp"

        def work(_note: object, kind: str = kind, marker: Path = marker) -> str:
            _run_module("doppio.command.kernels", kind)
            marker.write_text(made_from)
            return "compiled"

        if not is_stamped(marker, made_from):
            found.append(Step(title, work, needs))
    return found


def _among(before: Sequence[str], *titles: str) -> tuple[str, ...]:
    """Those of the steps that are to be done at all."""
    return tuple(title for title in titles if title in before)


def _run_module(*arguments: str) -> None:
    environment = os.environ | {"PYTHONPATH": str(ROOT / "src"), "NUMBA_CACHE_DIR": str(NUMBA)}
    run([str(PYTHON), "-m", *arguments], " ".join(arguments[:2]), env=environment)


def _database(checks: bool) -> str:
    home = VAR / "test" if checks else VAR
    return "made" if Cluster(home, quick=checks).create() else "there"


def main() -> None:
    """Install what is missing, then become the command."""
    os.environ[BEGUN] = str(time.time())
    if os.environ.pop("PYTHONDONTWRITEBYTECODE", None):
        # Nothing is to be written beside the sources; but compiling them anew costs every process seconds.
        os.environ["PYTHONPYCACHEPREFIX"] = str(VAR / "bytecode")
    arguments = sys.argv[1:]
    command = next((argument for argument in arguments if not argument.startswith("-")), "help")
    try:
        VAR.mkdir(parents=True, exist_ok=True)
        do(steps_for(command, arguments))
        shutil.rmtree(WEIGHTS, ignore_errors=True)
        secret_key()
    except LaunchError as error:
        print(f"doppio: {error}", file=sys.stderr)
        sys.exit(2)
    except KeyboardInterrupt:
        print("doppio: stopped", file=sys.stderr)
        sys.exit(130)
    os.environ["PYTHONPATH"] = str(ROOT / "src")
    os.environ["NUMBA_CACHE_DIR"] = str(NUMBA)
    os.execv(PYTHON, [str(PYTHON), "-m", "doppio", *arguments])


main()
