"""Running other programs: quietly, with an ear for how far they are, and with their last words where they fail."""

import subprocess
from collections import deque
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path

from doppio.launch.errors import LaunchError

LAST_WORDS = 15


class ProgramFailed(LaunchError):
    """A program ended badly.

    output : str, all that it said
    """

    def __init__(self, message: str, output: str) -> None:
        super().__init__(message)
        self.output = output


def run(
    command: Sequence[str],
    what: str,
    *,
    cwd: Path | None = None,
    env: Mapping[str, str] | None = None,
    heard: Callable[[str], None] | None = None,
) -> str:
    """Run a program and return what it said; `heard` gets every line at once.

    Raises
    ------
    LaunchError
        If it is not installed.
    ProgramFailed
        With what was being done, the command, and the end of its output.
    """
    try:
        program = subprocess.Popen(
            command, cwd=cwd, env=env, text=True, errors="replace", stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE, stderr=subprocess.STDOUT,
        )  # fmt: skip
    except FileNotFoundError as error:
        raise LaunchError(f"{what}: {command[0]} is not installed") from error
    said = []
    assert program.stdout is not None
    with program:
        for line in program.stdout:
            said.append(line)
            if heard is not None:
                heard(line.rstrip("\n"))
    if program.returncode:
        end = "".join(deque(said, LAST_WORDS)).strip()
        message = f"{what}: '{' '.join(command)}' ended with status {program.returncode}\n{end}"
        raise ProgramFailed(message, "".join(said))
    return "".join(said)
