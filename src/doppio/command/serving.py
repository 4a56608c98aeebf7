"""`./doppio demo` and `./doppio serve`: everything up, and kept up until Ctrl-C."""

import os
import socket
import subprocess
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from functools import partial
from typing import Annotated

import typer

from doppio.command import asked_to_stop
from doppio.command.children import Door
from doppio.command.paths import DEMO, ROOT, VAR
from doppio.command.show import err, out, progress_bars
from doppio.command.supervisor import Supervisor, answers
from doppio.core.company import company
from doppio.core.cores import cores
from doppio.core.errors import DoppioError
from doppio.launch.cluster import Cluster, free_port
from doppio.launch.lock import Lock
from doppio.launch.places import BEGUN, LOCK, SERVED
from doppio.launch.steps import step

PREFERRED_PORT = 8765
MOST_SERVERS, BACKLOG = 4, 256
Port = Annotated[int, typer.Option(help="Port on 127.0.0.1; another one is taken where it is in use, and said.")]

Dask = Annotated[
    str, typer.Option(help="Scheduler of a Dask cluster that builds and tries settings, such as 10.0.0.5:8786.")
]
Copies = Annotated[
    int,
    typer.Option(help="Workers that hold each segment of what assistants ask; 0: they ask this machine."),
]
# The launcher has done it by the time that the command begins.
NewDatabase = Annotated[
    bool, typer.Option("--new-database", help="Begin with an empty database; one that is there is kept aside.")
]


def manage(arguments: list[str]) -> None:
    """Run a Django management command in this process."""
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "doppio.site.settings")
    from django.core.management import execute_from_command_line
    from django.db import OperationalError

    try:
        execute_from_command_line(["./doppio manage", *arguments])
    except OperationalError as error:
        raise DoppioError(
            f"the database does not answer ({str(error).splitlines()[0]}); it runs while './doppio demo' or "
            "'./doppio serve' does, so start one of them in another terminal"
        ) from error


def demo(port: Port = PREFERRED_PORT, new_database: NewDatabase = False) -> None:
    """Install what is missing, load the demo, and serve it. Ctrl-C stops all that it started.

    The recipe in force is measured before the door opens; the others are measured by the worker.
    """
    with _Service(port) as service:
        _import_all()
        service.supervisor.do(lambda: step("demo data", _load_demo))
        service.supervisor.do(lambda: step("recipe in force", _measure_in_force))
        service.serve(_queue_others)


def serve(
    port: Port = PREFERRED_PORT, new_database: NewDatabase = False, dask: Dask = "", copies: Copies = 0
) -> None:
    """Serve what is there, without loading the demo."""
    if dask:
        # Read when the settings are, here and in every process that is started.
        os.environ["DOPPIO_DASK"] = dask
    if copies:
        os.environ["DOPPIO_COPIES"] = str(copies)
    with _Service(port) as service:
        service.serve(_build_in_force)


def _share_figures() -> None:
    """Where server processes keep their figures for whichever of them is asked; those of an earlier run go."""
    folder = VAR / "figures"
    folder.mkdir(exist_ok=True)
    for old in folder.glob("*.db"):
        old.unlink()
    # The library that counts looks at it when it is imported.
    os.environ["PROMETHEUS_MULTIPROC_DIR"] = str(folder)


def _migrate() -> str:
    from django.core.management import call_command
    from django.db import connection
    from django.db.migrations.executor import MigrationExecutor

    from doppio.site.older import carry_over

    executor = MigrationExecutor(connection)
    plan = executor.migration_plan(executor.loader.graph.leaf_nodes())
    if not plan:
        return "up to date"
    there = bool(executor.loader.applied_migrations)
    if there:
        from doppio.command.backup import before_migration

        before_migration(Cluster(VAR), VAR)
        carry_over()
    with connection.cursor() as cursor:
        # A large table takes its time.
        cursor.execute("SET statement_timeout = 0")
    call_command("migrate", verbosity=0, interactive=False)
    return f"{len(plan)} changes made" if there else "made"


def _reach_the_store() -> str:
    """Where artifacts are; one that is shared has to answer before the door opens."""
    from doppio.recipes.artifacts import reach

    return reach()


def _load_demo() -> str:
    from doppio.command.demo_data import load_demo

    with progress_bars() as bars:
        return load_demo(DEMO, progress=bars)


def _measure_in_force() -> str:
    from doppio.command.demo_data import measure_in_force

    with progress_bars() as bars:
        return measure_in_force(bars)


def _queue_others() -> None:
    from doppio.command.demo_data import load_drawings, queue_others

    load_drawings(DEMO)
    waiting = queue_others()
    if waiting:
        out.print(f"{waiting} more recipes are being measured; the Trials page shows how far they are.")


def _build_in_force() -> None:
    """Have the worker build what is in force and not built, such as after an upgrade that indexes otherwise."""
    from doppio.recipes.builds import is_built
    from doppio.recipes.models import RecipeVersion
    from doppio.recipes.services import core_recipe
    from doppio.trials.services import start_trial

    for recipe in RecipeVersion.objects.filter(in_force=True).select_related("workspace"):
        if recipe.workspace.documents.exists() and not is_built(recipe.workspace, core_recipe(recipe)):
            start_trial(recipe, None)
            out.print(f"{recipe.name} v{recipe.version} of {recipe.workspace.name} is being built again.")


def _import_all() -> None:
    """What every process needs that serves or builds: the models, the views, the kinds, and the compiler's tables.

    Each that is started from this one would read them for itself, all at the same time, while the first question
    waits.
    """
    _import_views()
    _import_loops()


def _import_views() -> None:
    import django

    django.setup()
    import doppio.site.front
    import doppio.site.urls  # noqa: F401


def _import_loops() -> None:
    import numpy as np

    from doppio.core.branches.kind import BRANCHES
    from doppio.core.kernels.heap import offer

    _spare_the_look_for_matrices()
    list(BRANCHES)
    offer(np.zeros(1, np.float32), np.zeros(1, np.int64), 0, np.float32(0), np.int64(0))


def _spare_the_look_for_matrices() -> None:
    """When it is first used Numba looks whether it could multiply matrices, by importing all of scipy.linalg: a tenth
    of a start. For a loop that does multiply it looks when that is compiled."""
    import numba.np.linalg as linalg

    look = linalg.ensure_blas
    linalg.ensure_blas = lambda: None
    try:
        import numba.np.arraymath  # noqa: F401
    finally:
        linalg.ensure_blas = look


def _open_encoder() -> None:
    from doppio.recipes.builds import models

    with suppress(DoppioError):
        # What is wrong with it is told to whoever asks.
        models.encoder()


def _work() -> None:
    # Whoever asks goes before what is built meanwhile.
    os.nice(5)
    from django.core.management import call_command

    call_command("work")


class _Service:
    """Database, worker and web server, up when the block begins and stopped when it ends, in whatever way it ends."""

    def __init__(self, wanted: int) -> None:
        handle = os.environ.pop(LOCK, "")
        self._lock = Lock(SERVED, int(handle) if handle else None)
        if not handle:
            self._lock.take()
        self._wanted = wanted
        self._address = ""
        self._door = Door()
        self._cluster = Cluster(VAR)
        self.supervisor = Supervisor(self._cluster, VAR)

    def __enter__(self) -> "_Service":
        asked_to_stop.listen()
        try:
            self._begin()
        except BaseException:
            self.__exit__()
            raise
        return self

    def __exit__(self, *_: object) -> None:
        asked_to_stop.heard()
        self._lock.say(state="stopping")
        self.supervisor.stop()
        err.print("  stopped")

    def _begin(self) -> None:
        self._listening = self._listen()
        self._address = f"http://127.0.0.1:{self._listening.getsockname()[1]}"
        self._lock.say(state="running", address=self._address)
        # The database starts while this process imports what its children need.
        self.supervisor.look()
        os.environ |= {"DJANGO_SETTINGS_MODULE": "doppio.site.settings", "DOPPIO_WARM_UP": "1"}
        _share_figures()
        if cores() > 1:
            # One core imports what the first web server needs while another sees to the database and the tables.
            self._keep_server(1, at_once=True)
        step("database", self._open_database)
        import django

        django.setup()
        self.supervisor.do(lambda: step("tables", _migrate))
        step("store", _reach_the_store)

    def _open_database(self) -> str:
        self.supervisor.database()
        self._cluster.create_database()
        return f"runs on 127.0.0.1:{self._cluster.port}"

    def _listen(self) -> socket.socket:
        """The socket that every web server of this run will listen on, so that none has to find its port free."""
        port = free_port(self._wanted)
        if port != self._wanted:
            err.print(f"  port {self._wanted} is taken by another program; port {port} is used")
        listening = socket.socket()
        listening.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            listening.bind(("127.0.0.1", port))
        except OSError as error:
            raise DoppioError(f"port {port} on 127.0.0.1 cannot be listened on: {error}") from error
        return listening

    def serve(self, opened: Callable[[], None]) -> None:
        """Open the door, say where it is, do what is to be done then, and keep everything up."""
        # Until now whoever knocked was turned away at once.
        self._listening.listen(BACKLOG)
        self._door.open()
        if cores() == 1:
            # What one core imports all share; otherwise the first of them has done so beside.
            _import_all()
            self._keep_server(1)
        # It has its core for itself until it answers.
        self._say_where()
        _import_all()
        self.supervisor.keep("job worker", _work)
        # Python runs one thread at a time, so a process a core; all listen on the same socket.
        for number in range(2, min(cores(), MOST_SERVERS) + 1):
            self._keep_server(number)
        self.supervisor.do(opened)
        # What nobody had to wait for, and nobody shall wait for now; its end, good or bad, ends nothing here.
        with (VAR / "set-up.log").open("a") as log:
            helper = subprocess.Popen(
                [str(ROOT / "doppio"), "setup"], stdin=subprocess.DEVNULL, stdout=log, stderr=log, cwd=ROOT,
                start_new_session=True, preexec_fn=lambda: os.nice(10),
            )  # fmt: skip
        self.supervisor.beside(helper)
        self.supervisor.run()

    def _keep_server(self, number: int, *, at_once: bool = False) -> None:
        """Keep a web server, which others count with as long as it is there."""
        name = f"web server {number}" if number > 1 else "web server"
        gone = partial(company.leave, number)
        self.supervisor.keep(name, partial(self._serve_pages, number), at_once=at_once, gone=gone)

    def _serve_pages(self, number: int) -> None:
        """Be a web server, as soon as the door opens; `number` is its place among them."""
        company.take(number)
        _import_views()
        from doppio.core.store.reading_ahead import reading_ahead

        # Most of what it imports it has read from the disk by now.
        reading_ahead.begin(VAR / "read-ahead")
        # Beside what takes Python's only turn: the first question counts its tokens with it.
        threading.Thread(target=_open_encoder, name="encoder", daemon=True).start()
        _import_loops()
        from doppio.core.kernels.products import keep_to_one_core

        keep_to_one_core()
        self._door.wait()
        from doppio.site.front import Front
        from doppio.site.wsgi import application

        Front(application, self._listening).run()

    def _say_where(self) -> None:
        """Wait for a web server, and say where it is."""
        step("web server", self._wait)
        self.supervisor.do(self._show_the_door)

    def _show_the_door(self) -> None:
        from doppio.command.demo_person import entry_link

        out.print(f"\nDoppio is ready after {seconds_since_the_start():.1f} s:  {self._address}")
        link = entry_link()
        if link:
            out.print(f"Sign in, once:  {self._address}/enter/{link}", soft_wrap=True)
        out.print("Ctrl-C stops it.\n")

    def _wait(self) -> str:
        self.supervisor.until(lambda: answers(self._address), 60, "the web server")
        return "running"


def seconds_since_the_start() -> float:
    """Time since the launcher began, installing included."""
    return time.time() - float(os.environ.get(BEGUN, time.time()))
