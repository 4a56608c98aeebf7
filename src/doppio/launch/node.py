"""The interface: its packages, and its build."""

import re
from pathlib import Path

from doppio.launch.places import WEB, is_stamped, stamp
from doppio.launch.programs import run
from doppio.launch.steps import Note

FETCHED = re.compile(r"npm http fetch GET 200 ")
SOURCES = ("index.html", "package-lock.json", "vite.config.ts")


def packages(*, checks: bool, note: Note, web: Path = WEB) -> str:
    """`npm ci`, when the lock file or the folder has changed since; `checks` adds linters and type checks."""
    lock = (web / "package-lock.json").read_bytes()
    whole, small = stamp(lock, b"checks"), stamp(lock)
    marker = web / "node_modules" / ".doppio-stamp"
    if is_stamped(marker, whole) or (not checks and is_stamped(marker, small)):
        return "there"
    fetched = 0

    def heard(line: str) -> None:
        nonlocal fetched
        if FETCHED.match(line):
            fetched += 1
            note(f"{fetched} fetched")

    # No package runs a script of its own; what the build needs is in the packages as they are.
    command = ["npm", "ci", "--no-audit", "--no-fund", "--ignore-scripts", "--loglevel=http"]
    run([*command, *([] if checks else ["--omit=dev"])], "npm ci", cwd=web, heard=heard)
    marker.write_text(whole if checks else small)
    return "installed"


def interface(web: Path = WEB) -> str:
    """The Vite build, when a source file has changed since."""
    sources = [path for path in sorted((web / "src").rglob("*")) if path.is_file()]
    made_from = stamp(*(str(path.relative_to(web)).encode() + path.read_bytes()
                        for path in [*sources, *(web / name for name in SOURCES)]))  # fmt: skip
    marker = web / "dist" / ".doppio-stamp"
    if is_stamped(marker, made_from):
        return "up to date"
    run(["npm", "run", "build"], "building the interface", cwd=web)
    marker.write_text(made_from)
    return "built"
