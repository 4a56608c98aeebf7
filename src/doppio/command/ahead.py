"""What is made ahead of the first use: models from their weights, and compiled loops.

Run by the launcher as `python -m doppio.command.ahead WEIGHTS TASK ...`: one task after another in one process, since
what they stand on takes seconds to import. Each is named on a line of its own when it is done.
"""

import sys
from collections.abc import Callable
from pathlib import Path

from doppio.command import kernels, shipped

TASKS: dict[str, Callable[[Path], None]] = {
    "encoder": shipped.make_encoder,
    "scorer": shipped.make_scorer,
    "other-precisions": shipped.make_others,
    "sparse-loops": lambda _: kernels.compile_sparse(),
    "dense-loops": lambda _: kernels.compile_dense(),
    "large-loops": lambda _: kernels.compile_large(),
}


def main(weights: Path, tasks: list[str]) -> None:
    for task in tasks:
        TASKS[task](weights)
        print(task, flush=True)


if __name__ == "__main__":
    main(Path(sys.argv[1]), sys.argv[2:])
