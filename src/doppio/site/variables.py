"""What differs between installations: every `DOPPIO_...` variable with its type, its default and what it does."""

import os
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Generic, TypeVar

T = TypeVar("T")


@dataclass(frozen=True)
class Variable(Generic[T]):
    """A variable of the environment.

    read : makes the value of what stands in the environment; raises ValueError where it cannot
    default : the value where it is not set
    says : what it does, for docs/operating.md
    """

    name: str
    read: Callable[[str], T]
    default: T
    says: str

    @property
    def value(self) -> T:
        """What is set, or the default.

        Raises
        ------
        ValueError
            If what is set is not of the variable's type; names the variable.
        """
        given = os.environ.get(self.name, "").strip()
        if not given:
            return self.default
        try:
            return self.read(given)
        except ValueError:
            raise ValueError(f"{self.name}: {given!r} is not {_wanted(self.read)}") from None


def _wanted(read: Callable[[str], Any]) -> str:
    told: dict[Any, str] = {
        days: "a number of days, 0 or more",
        count: "a whole number above 0",
        amount: "a number above 0",
        address: "an address such as s3://bucket/folder or file:///shared/folder",
        level: f"one of {', '.join(LEVELS)}",
    }
    return told.get(read, "right")


LEVELS = ("DEBUG", "INFO", "WARNING", "ERROR", "CRITICAL")


def words(text: str) -> tuple[str, ...]:
    """Names with blanks or commas between them."""
    return tuple(text.replace(",", " ").split())


def days(text: str) -> float:
    """A number of days."""
    found = float(text)
    if not 0 <= found < float("inf"):
        raise ValueError(text)
    return found


def amount(text: str) -> float:
    """A number above 0."""
    if not 0 < float(text) < float("inf"):
        raise ValueError(text)
    return float(text)


def address(text: str) -> str:
    """An address with its protocol."""
    protocol, found, rest = text.partition("://")
    if not (protocol.isidentifier() and found and rest.strip("/")):
        raise ValueError(text)
    return text


def count(text: str) -> int:
    """A whole number above 0."""
    if int(text) < 1:
        raise ValueError(text)
    return int(text)


def level(text: str) -> str:
    """How much is logged."""
    if text.upper() not in LEVELS:
        raise ValueError(text)
    return text.upper()


ROOT = Path(__file__).resolve().parents[3]
VAR = Variable("DOPPIO_VAR", Path, ROOT / "var", "the folder of everything that Doppio keeps")
DATABASE = Variable(
    "DOPPIO_DATABASE",
    Path,
    VAR.value / "database.json",
    "the record that says where the database is and how to get in",
)
ARTIFACTS = Variable("DOPPIO_ARTIFACTS", Path, VAR.value / "artifacts", "the folder of chunks and indexes")
STORE = Variable("DOPPIO_STORE", address, "", "where artifacts are that machines share, such as `s3://bucket/folder`")
CACHE = Variable("DOPPIO_CACHE_GB", amount, 0.0, "GiB that a machine keeps of a shared store; all that it opens")
DASK = Variable("DOPPIO_DASK", str, "", "the scheduler of a Dask cluster that builds, such as `10.0.0.5:8786`")
COPIES = Variable(
    "DOPPIO_COPIES",
    count,
    0,
    "how many workers of the cluster hold each segment of what assistants ask",
)
SEGMENT = Variable(
    "DOPPIO_SEGMENT_CHUNKS", count, 0, "chunks that a segment holds at most; two millions where it is not set"
)
FILES = Variable("DOPPIO_FILES", Path, VAR.value / "files", "the folder of imported files")
MODELS = Variable("DOPPIO_MODELS", Path, VAR.value / "models", "the folder of encoders and scorers")
HOSTS: Variable[tuple[str, ...]] = Variable(
    "DOPPIO_HOSTS", words, (), "names that Doppio is served under through a front that speaks HTTPS"
)
KINDS: Variable[tuple[str, ...]] = Variable(
    "DOPPIO_KINDS", words, (), "packages beside Doppio whose kinds are switched on"
)
KEEP_JOBS = Variable(
    "DOPPIO_KEEP_JOBS_DAYS", days, 90.0, "how long ended jobs and the lists of their imports are kept"
)
KEEP_UPLOADS = Variable("DOPPIO_KEEP_UPLOADS_DAYS", days, 2.0, "how long uploads are kept that were never started")
KEEP_ASKED = Variable("DOPPIO_KEEP_ASKED_DAYS", days, 90.0, "how long questions are kept that people typed")
KEEP_REMOVED = Variable(
    "DOPPIO_KEEP_REMOVED_DAYS", days, 7.0, "how long a workspace that was removed can be brought back"
)
LOG = Variable("DOPPIO_LOG", level, "WARNING", "from which level on the servers log")
CORES = Variable("DOPPIO_CORES", count, 0, "how many cores are used at most; all that there are where it is not set")
ALL: tuple[Variable[Any], ...] = (
    VAR, DATABASE, ARTIFACTS, STORE, CACHE, DASK, COPIES, SEGMENT, FILES, MODELS, HOSTS, KINDS, KEEP_JOBS,
    KEEP_UPLOADS, KEEP_ASKED, KEEP_REMOVED, LOG, CORES,
)  # fmt: skip


def table() -> str:
    """All of them as they stand in docs/operating.md."""
    rows = ["| variable | what it sets | without it |", "|---|---|---|"]
    for one in ALL:
        default = one.default
        if isinstance(default, Path):
            shown = (
                f"`{default.relative_to(VAR.default)}` in it" if default != VAR.default else "`var` in the checkout"
            )
        elif isinstance(default, float) and default:
            shown = f"{default:g} days"
        else:
            shown = f"`{default}`" if default else "none"
        rows.append(f"| `{one.name}` | {one.says} | {shown} |")
    return "\n".join(rows)
