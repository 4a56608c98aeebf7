"""`./doppio worker`: lend this machine's cores to a Doppio that builds, tries settings or asks elsewhere."""

import os
import signal
import subprocess
import sys
import time
from typing import Annotated, Any

import typer

from doppio.command.paths import VAR
from doppio.command.show import err
from doppio.core.cores import cores
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.store.crew import Place

# Seconds before a worker is started again: after one that worked for a while, and first and at most after others.
AGAIN, SHORT, LONG = 1.0, 2.0, 60.0
# Seconds after which one has worked for a while; waiting for a scheduler takes less.
LIVED = 45.0
ADDRESS = Annotated[str, typer.Argument(help="Of the scheduler, such as tcp://10.0.0.5:8786.")]


def worker(
    address: ADDRESS,
    processes: Annotated[int, typer.Option(help="Worker processes; 0: one for each core.")] = 0,
    memory: Annotated[str, typer.Option(help="Memory of each, after which Dask starts it anew.")] = "auto",
    name: Annotated[str, typer.Option(help="What it is called on Dask's pages.")] = "",
) -> None:
    """Lend this machine's cores to the Dask cluster that a Doppio builds, tries settings and asks shards on."""
    count = processes or cores()
    place = VAR / "dask"
    place.mkdir(parents=True, exist_ok=True)
    # Each process has its share of the cores.
    os.environ["DOPPIO_CORES"] = str(max(1, cores() // count))
    given = [
        address, "--nworkers", str(count), "--nthreads", "1", "--memory-limit", memory, "--no-dashboard",
        "--local-directory", str(place), "--preload", "doppio.command.worker",
    ]  # fmt: skip
    if name:
        given += ["--name", name]
    err.print(f"  {count} processes for {address}; Ctrl-C stops them")
    _keep([sys.executable, "-m", "distributed.cli.dask_worker", *given])


def _keep(command: list[str]) -> None:
    """Run a command, and again whenever it ends: a worker ends with its scheduler, which may come back."""
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(143))
    pause = SHORT
    while True:
        begun = time.monotonic()
        process = subprocess.Popen(command)
        try:
            code = process.wait()
        finally:
            process.terminate()
            process.wait()
        err.print(f"  the worker ended ({code}); it is started again")
        # One whose scheduler is long gone is started ever more seldom: a start takes seconds of a core.
        pause = AGAIN if time.monotonic() - begun > LIVED else min(max(2 * pause, SHORT), LONG)
        time.sleep(pause)


def dask_setup(worker: Any) -> None:
    """What Dask calls in every process of a worker before it takes tasks."""
    from doppio.machines.here import settle, unsettled

    try:
        settle(_place())
    except Exception as error:
        # Dask lets a worker in whatever goes wrong here; whoever wants something of it is told.
        unsettled(f"cannot begin: {error or type(error).__name__}")
        raise


def _place() -> Place:
    # All that tasks and questions need is imported before the first of them comes: several at once would import it
    # while the connections of this worker wait.
    import doppio.core.build.builder
    import doppio.core.measure.sweeper
    import doppio.machines.shards  # noqa: F401
    from doppio.core.kinds import load_all
    from doppio.core.models.registry import Models
    from doppio.core.store.opened import opened_store
    from doppio.site import variables

    load_all()
    store: ArtifactStore = opened_store(
        variables.ARTIFACTS.value, variables.STORE.value, most_gb=variables.CACHE.value
    )
    return Place(Models(variables.MODELS.value), store)
