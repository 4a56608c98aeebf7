"""What is made before the first use, so that no question waits for it: models from weights, and compiled loops."""

import os
from collections.abc import Sequence
from functools import partial
from pathlib import Path

from doppio.launch import python
from doppio.launch.places import PYTHON, ROOT, VAR, is_stamped, stamp
from doppio.launch.programs import run
from doppio.launch.steps import Note, Step

WEIGHED = ("weighed-english", "weighed-light")
LEARNED = [
    ROOT / "weights" / file
    for file in ("joint-english.safetensors", "joint-english.json", *(f"{name}.json" for name in WEIGHED))
]
MODELS, WEIGHTS = VAR / "models", VAR / "weights"
NUMBA = Path(os.environ.get("NUMBA_CACHE_DIR", VAR / "numba"))
SHIPPED = {"encoder": "compact-english", "scorer": "joint-english", "other-precisions": "compact-english-int8"}
LOOPS = ("sparse-loops", "dense-loops", "large-loops")
# The encoder comes first in its process: the loops of cutting count its tokens.
LANES = (("encoder", "dense-loops", "other-precisions"), ("scorer", "sparse-loops", "large-loops"))


def steps(before: Sequence[str], *, loops: bool, later: Sequence[str] = ()) -> list[Step]:
    """Steps that make what is lacking, each process on one core.

    Parameters
    ----------
    before : titles of the steps that come first
    loops : whether loops are compiled ahead, for a command that serves or tests
    later : tasks that nobody waits for now; a set-up does them
    """
    weights = python.WEIGHTS.read_bytes()
    learned = stamp(weights, *(path.read_bytes() for path in LEARNED))
    sources = stamp(*(path.read_bytes() for path in sorted((ROOT / "src" / "doppio" / "core").rglob("*.py"))))
    made_from = {"encoder": stamp(weights), "scorer": learned, "other-precisions": learned}
    markers = {task: MODELS / f"{task}.stamp" for task in made_from}
    if loops:
        made_from |= dict.fromkeys(LOOPS, sources)
        markers |= {task: NUMBA / f"{task}.stamp" for task in LOOPS}
    lacking = [
        task
        for task, digest in made_from.items()
        if not is_stamped(markers[task], digest) or (task in SHIPPED and not (MODELS / SHIPPED[task]).is_dir())
    ]
    lacking = [task for task in lacking if task not in later]
    needs = tuple(title for title in ("Python packages",) if title in before)
    found = []
    if not set(lacking) <= set(LOOPS):
        first = tuple(title for title in ("Python environment",) if title in before)
        fetch = Step("model weights", lambda note: python.weights(WEIGHTS, note), first)
        found, needs = [fetch], (*needs, fetch.title)

    def make(tasks: Sequence[str], note: Note) -> str:
        def heard(task: str) -> None:
            if task in tasks:
                markers[task].write_text(made_from[task])
                note(f"{task} made")

        environment = os.environ | {"PYTHONPATH": str(ROOT / "src"), "NUMBA_CACHE_DIR": str(NUMBA)}
        command = [str(PYTHON), "-m", "doppio.command.ahead", str(WEIGHTS), *tasks]
        run(command, f"making {', '.join(tasks)}", env=environment, heard=heard)
        return "made"

    for lane in LANES:
        tasks = [task for task in lane if task in lacking]
        if tasks:
            found.append(Step(", ".join(tasks), partial(make, tasks), needs))
    return found
