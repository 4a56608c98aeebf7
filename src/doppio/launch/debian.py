"""Debian's packages: what is missing is installed; a package manager that is busy is waited for."""

import os
import re
import shutil
import subprocess
import time
from collections.abc import Callable
from pathlib import Path

from doppio.launch.errors import LaunchError
from doppio.launch.programs import ProgramFailed, run
from doppio.launch.steps import Note

DATABASE, BROWSER = {"postgresql": "postgresql"}, {"chromium": "chromium", "chromedriver": "chromium-driver"}
# What lays the text of a PDF out.
PRINTING = {"libpangoft2-1.0.so.0": "libpangoft2-1.0-0", "libharfbuzz-subset.so.0": "libharfbuzz-subset0"}
LOCKED = re.compile(r"(?:Could not get|Unable to (?:acquire|lock)).*?lock", re.IGNORECASE)
HELD_BY = re.compile(r"held by process (\d+)(?: \(([^)]+)\))?")
PROGRESS = re.compile(r"(dl|pm)status:[^:]*:([\d.]+):")
WORDS = {"dl": "fetched", "pm": "unpacked and set up"}
AGAIN, PATIENCE = 2.0, 1800.0


def postgres_programs() -> Path | None:
    """The folder with the newest installed PostgreSQL server's programs."""
    found = sorted(Path("/usr/lib/postgresql").glob("*/bin/initdb"), key=lambda path: int(path.parts[-3]))
    return found[-1].parent if found else None


def programs_of(version: str) -> Path | None:
    """The folder with the programs of a major version of PostgreSQL."""
    folder = Path("/usr/lib/postgresql") / version / "bin"
    return folder if (folder / "initdb").exists() else None


def _library(name: str) -> bool:
    return any((folder / name).exists() for folder in (Path("/usr/lib64"), *Path("/usr/lib").glob("*-linux-gnu")))


def missing(*, browser: bool) -> list[str]:
    """Packages that are not there; `browser` adds what the tests drive the interface with."""
    lacking = [] if postgres_programs() else list(DATABASE.values())
    if browser:
        lacking += [package for program, package in BROWSER.items() if shutil.which(program) is None]
    # Nobody is kept from starting by what prints a report; where it is lacking, the report says so.
    if lacking or os.geteuid() == 0:
        lacking += [package for library, package in PRINTING.items() if not _library(library)]
    return lacking


def ensure(packages: list[str], note: Note, sleep: Callable[[float], None] = time.sleep) -> str:
    """Install packages.

    Raises
    ------
    LaunchError
        Where that takes rights that this account has not, with the command to run; or if the package manager fails.
    """
    if not packages:
        return "all there"
    command = ["apt-get", "install", "-y", "--no-install-recommends", *packages]
    rights = [] if os.geteuid() == 0 else ["sudo", "-n"]
    if rights and (shutil.which("sudo") is None or subprocess.run([*rights, "true"], capture_output=True).returncode):
        raise LaunchError(f"missing packages; run this once, then try again: sudo {' '.join(command)}")
    _patiently([*rights, "apt-get", "update"], "apt-get update", note, sleep)
    _patiently([*rights, *command, "-o", "APT::Status-Fd=1"], "installing Debian packages", note, sleep)
    return "installed " + ", ".join(packages)


def _patiently(command: list[str], what: str, note: Note, sleep: Callable[[float], None]) -> None:
    """Run the package manager; while another process holds its lock, say which and try again."""
    env = os.environ | {"DEBIAN_FRONTEND": "noninteractive", "LC_ALL": "C.UTF-8"}
    waited = 0.0

    def heard(line: str) -> None:
        found = PROGRESS.match(line)
        if found:
            note(f"{float(found[2]):.0f} % {WORDS[found[1]]}")

    while True:
        try:
            run(command, what, env=env, heard=heard)
            return
        except ProgramFailed as error:
            if not LOCKED.search(error.output) or waited >= PATIENCE:
                raise
            holder = HELD_BY.search(error.output)
            who = f"process {holder[1]}" + (f", {holder[2]}" if holder[2] else "") if holder else "another process"
            note(f"waiting for the package manager, which is in use by {who}")
            sleep(AGAIN)
            waited += AGAIN
