"""Stand-ins for programs that a start runs: they write down how they were called, and do what the test says."""

import os
from pathlib import Path
from unittest import mock


def stand_in(folder: Path, name: str, script: str = "") -> None:
    """A shell program in `folder` that writes its arguments into NAME.calls and then runs `script`."""
    folder.mkdir(parents=True, exist_ok=True)
    path = folder / name
    path.write_text(f'#!/bin/sh\necho "$*" >> "{folder}/{name}.calls"\n{script}\n')
    path.chmod(0o755)


def calls(folder: Path, name: str) -> list[str]:
    path = folder / f"{name}.calls"
    return path.read_text().splitlines() if path.exists() else []


def only(folder: Path):
    """A block in which these programs are found before all others."""
    return mock.patch.dict(os.environ, {"PATH": f"{folder}{os.pathsep}{os.environ['PATH']}"})
