"""An ONNX graph, opened to run."""

import threading
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import onnxruntime

from doppio.core.company import company
from doppio.core.cores import cores

# Adding and norming in one step is slower on a CPU than one after the other (a tenth of a whole run).
SLOWER = ["SkipLayerNormFusion"]


def open_session(graph: Path, threads: int | None = None) -> onnxruntime.InferenceSession:
    """A session on the CPU; all cores work on one batch unless fewer threads are wanted."""
    options = onnxruntime.SessionOptions()
    options.intra_op_num_threads = threads or cores()
    options.log_severity_level = 3
    # Threads that look for more work for milliseconds after a question hold a core that what comes next could use.
    options.add_session_config_entry("session.force_spinning_stop", "1")
    return onnxruntime.InferenceSession(
        str(graph), options, providers=["CPUExecutionProvider"], disabled_optimizers=SLOWER
    )


class Spreading:
    """A graph for texts, which spreads over the cores; a single text while others ask too keeps to one of them.

    Notes
    -----
    Threads that share a small graph wait for each other some hundred times a run, and do so by looking again and
    again: two questions that both spread over two cores take twice as long as on a core each. What one core works
    with is opened when it is first wanted, beside whoever asks, and takes as much memory again. The numbers are the
    same to the last bit.
    """

    def __init__(self, graph: Path, threads: int | None = None) -> None:
        self._graph = graph
        self._wide = open_session(graph, threads)
        self._spreads = (threads or cores()) > 1
        self._narrow: onnxruntime.InferenceSession | None = None
        self._opening = threading.Lock()

    def inputs(self) -> Sequence[Any]:
        return self._wide.get_inputs()

    def outputs(self) -> Sequence[Any]:
        return self._wide.get_outputs()

    def run(self, wanted: Sequence[str | None], given: dict[Any, Any], texts: int) -> list[Any]:
        """Outputs by their names, for so many texts."""
        session = self._wide
        if self._spreads and texts == 1 and not company.alone:
            session = self._narrow or session
            if self._narrow is None and self._opening.acquire(blocking=False):
                threading.Thread(target=self._open_narrow, name="one core", daemon=True).start()
        found: list[Any] = session.run(wanted, given)
        return found

    def _open_narrow(self) -> None:
        self._narrow = open_session(self._graph, 1)
