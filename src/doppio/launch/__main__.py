"""`./doppio ...`: what the command needs is installed, side by side; then the command itself takes over."""

import os
import shutil
import sys
import time
from functools import partial
from typing import Any

from doppio.launch import ahead, debian, node, python
from doppio.launch.cluster import Cluster
from doppio.launch.errors import LaunchError, told_of
from doppio.launch.lock import Lock, Taken
from doppio.launch.places import BEGUN, LOCK, PYTHON, ROOT, SERVED, SETUP, VAR, close_to_others, secret_key
from doppio.launch.programs import run
from doppio.launch.steps import Note, Step, do

NEW = "--new-database"
SERVING = ("demo", "serve")
APPLICATION = (*SERVING, "setup", "test")
EARLY, VECTORS = "first tables and documents", "first vectors"
WITH_DATABASE = (*APPLICATION, "backup", "restore")
# While people look at the page already, the server has this done by a set-up.
LATER = ("other-precisions", "large-loops")
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
        later = LATER if command in SERVING else ()
        found += ahead.steps([step.title for step in found], loops=command in APPLICATION, later=later)
    if command in WITH_DATABASE:
        packages = debian.missing(browser=checks)
        if packages:
            found.append(Step("Debian packages", lambda note: debian.ensure(packages, note)))
        after = ("Debian packages",) if packages else ()
        first = not (VAR / "database.json").exists()
        found.append(Step("database files", lambda _: _database(checks, NEW in arguments), after))
        if command == "demo" and first:
            # It takes one core; the steps beside it leave some of the other.
            before = tuple(step.title for step in found if step.title == "Python packages")
            found.append(Step(EARLY, partial(_early, "documents"), (*before, "database files")))
            # The other models and loops may still be on their way.
            made = tuple(step.title for step in found if set(step.title.split(", ")) & set(ahead.LANES[0]))
            found.append(Step(VECTORS, partial(_early, "vectors"), (*made, EARLY)))
    if command in APPLICATION:
        found += [
            Step("interface packages", lambda note: node.packages(checks=checks, note=note)),
            Step("interface", lambda _: node.interface(), ("interface packages",)),
        ]
    return found


def _database(checks: bool, new: bool) -> str:
    home = VAR / "test" if checks else VAR
    return "made" if Cluster(home, quick=checks).create(new=new) else "there"


def _early(task: str, note: Note) -> str:
    environment = os.environ | {"PYTHONPATH": str(ROOT / "src"), "NUMBA_CACHE_DIR": str(ahead.NUMBA)}
    command = [str(PYTHON), "-m", "doppio.command.early", task]
    said = run(command, f"first {task}", env=environment, heard=lambda line: note(line.strip()))
    return said.strip().splitlines()[-1]


def _claim(command: str) -> Lock:
    """The lock that only one start has in this folder; one that is being stopped is waited for.

    Raises
    ------
    LaunchError
        If Doppio runs here already; says where.
    """
    lock, waited = Lock(SERVED), False
    while True:
        try:
            lock.take(command=command, state="starting")
            return lock
        except Taken as taken:
            holder = taken.holder
            if holder.get("state") != "stopping":
                where = holder.get("address") or f"it is being started by './doppio {holder.get('command', 'serve')}'"
                raise LaunchError(
                    f"Doppio runs already in {VAR} (process {holder.get('process', 'unknown')}): {where}"
                ) from None
            if not waited:
                print(f"  waiting for process {holder['process']}, which is being stopped", file=sys.stderr)
            waited = True
            time.sleep(0.3)


def _told(holder: dict[str, Any]) -> None:
    print(f"  waiting for process {holder.get('process', 'unknown')}, which installs in {ROOT}", file=sys.stderr)


def main() -> None:
    """Install what is missing, then become the command."""
    # What is kept is nobody else's to read.
    os.umask(0o077)
    os.environ[BEGUN] = str(time.time())
    if os.environ.pop("PYTHONDONTWRITEBYTECODE", None):
        # Nothing is to be written beside the sources; but compiling them anew costs every process seconds.
        os.environ["PYTHONPYCACHEPREFIX"] = str(VAR / "bytecode")
    arguments = sys.argv[1:]
    command = next((argument for argument in arguments if not argument.startswith("-")), "help")
    try:
        close_to_others()
        if command in SERVING:
            os.environ[LOCK] = str(_claim(command).hand_on())
        installing = Lock(SETUP)
        installing.wait(_told)
        do(steps_for(command, arguments))
        if command not in SERVING:
            # Nothing is made of them any more.
            shutil.rmtree(ahead.WEIGHTS, ignore_errors=True)
        secret_key()
        installing.release()
    except LaunchError as error:
        print(f"doppio: {error}", file=sys.stderr)
        sys.exit(2)
    except OSError as error:
        told = told_of(error)
        if told is None:
            raise
        print(f"doppio: {told}", file=sys.stderr)
        sys.exit(2)
    except KeyboardInterrupt:
        print("doppio: stopped", file=sys.stderr)
        sys.exit(130)
    os.environ["PYTHONPATH"] = str(ROOT / "src")
    os.environ["NUMBA_CACHE_DIR"] = str(ahead.NUMBA)
    os.execv(PYTHON, [str(PYTHON), "-m", "doppio", *arguments])


main()
