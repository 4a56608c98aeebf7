"""An ONNX graph, opened to run."""

from pathlib import Path

import onnxruntime

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
