"""What a trial's figures hang on beside its recipe and its documents: code, packages, models, labels, machine."""

import hashlib
import platform
from collections.abc import Sequence
from functools import lru_cache
from importlib.metadata import PackageNotFoundError, version
from pathlib import Path
from typing import Any

import doppio
from doppio.core.cores import cores
from doppio.core.fingerprint import fingerprint
from doppio.core.measure.questions import Question
from doppio.core.pipeline import Pipeline

# Those whose version can move a figure or a time.
PACKAGES = ("numpy", "scipy", "numba", "onnxruntime", "tokenizers", "snowballstemmer", "regex")
SEEDS = "nothing is drawn when a question is asked; structures and encoders are built from seeds in the code"


def origin_of(pipeline: Pipeline, questions: Sequence[Question]) -> dict[str, Any]:
    """As JSON values."""
    encoders = {branch.encoder.name: branch.encoder.digest for branch in pipeline.branches.values() if branch.encoder}
    scorers = {}
    if pipeline.reranker is not None:
        scorers = {part.scorer.name: part.scorer.digest for part in pipeline.reranker.parts}
    return {
        "code": code_version(),
        "packages": _packages(),
        "models": encoders | scorers,
        "labels": labels_of(questions),
        "machine": machine(),
        "seeds": SEEDS,
    }


def labels_of(questions: Sequence[Question]) -> str:
    """A fingerprint of questions and labels."""
    return fingerprint([(one.id, one.text, [vars(span) for span in one.spans]) for one in questions])


@lru_cache(maxsize=1)
def code_version() -> str:
    """A fingerprint of the program itself, after the commit where it is run from a clone."""
    root = Path(doppio.__file__).parent if doppio.__file__ else Path(__file__).parents[1]
    found = hashlib.blake2b(digest_size=8)
    for file in sorted(root.rglob("*.py")):
        found.update(file.relative_to(root).as_posix().encode() + b"\0" + file.read_bytes() + b"\0")
    commit = _commit(root.parents[1] / ".git")
    return f"{commit[:12]} {found.hexdigest()}".strip()


def _commit(git: Path) -> str:
    """What is checked out; empty where that cannot be told without git."""
    try:
        head = (git / "HEAD").read_text().strip()
        if not head.startswith("ref: "):
            return head
        reference = head.removeprefix("ref: ")
        if (git / reference).is_file():
            return (git / reference).read_text().strip()
        packed = (git / "packed-refs").read_text().splitlines()
        return next((line.split()[0] for line in packed if line.endswith(f" {reference}")), "")
    except OSError:
        return ""


def _packages() -> dict[str, str]:
    found = {"python": platform.python_version()}
    for name in PACKAGES:
        try:
            found[name] = version(name)
        except PackageNotFoundError:
            continue
    return found


@lru_cache(maxsize=1)
def machine() -> dict[str, Any]:
    """Processor, cores that may be used, and memory; times hang on them, figures do not."""
    return {"processor": _line("/proc/cpuinfo", "model name") or platform.processor() or platform.machine(),
            "cores": cores(), "memory": _line("/proc/meminfo", "MemTotal"), "system": platform.system()}  # fmt: skip


def _line(path: str, name: str) -> str:
    try:
        with Path(path).open(encoding="utf-8") as lines:
            return next((line.split(":", 1)[1].strip() for line in lines if line.startswith(name)), "")
    except OSError:
        return ""
