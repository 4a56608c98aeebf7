"""Start the database, the job worker and the web server; stop them together."""

import os
import signal
import subprocess
import sys
import time
import urllib.error
import urllib.request
from collections.abc import Callable
from pathlib import Path
from typing import Annotated

import typer

from doppio.command.paths import DEMO, ROOT, VAR
from doppio.command.show import err, out, progress_bars
from doppio.core.errors import DoppioError
from doppio.launch.cluster import Cluster, free_port, wait_until
from doppio.launch.places import BEGUN
from doppio.launch.steps import step

PREFERRED_PORT = 8765
Port = Annotated[int, typer.Option(help="Port on 127.0.0.1; another one is taken where it is in use.")]

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
    with _Services() as services:
        services.database()
        step("tables", _migrate)
        services.start(port)
        step("demo data", _load_demo)
        step("recipe in force", _measure_in_force)
        services.serve(_queue_others)


def serve(port: Port = PREFERRED_PORT, new_database: NewDatabase = False) -> None:
    """Serve what is there, without loading the demo."""
    with _Services() as services:
        services.database()
        step("tables", _migrate)
        services.start(port)
        services.serve()


def _migrate() -> str:
    import django

    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "doppio.site.settings")
    django.setup()
    from django.core.management import call_command

    call_command("migrate", verbosity=0, interactive=False)
    return "up to date"


def _load_demo() -> str:
    from doppio.command.demo_data import load_demo

    with progress_bars() as bars:
        return load_demo(DEMO, progress=bars)


def _measure_in_force() -> str:
    from doppio.command.demo_data import measure_in_force

    with progress_bars() as bars:
        return measure_in_force(bars)


def _queue_others() -> None:
    from doppio.command.demo_data import queue_others

    waiting = queue_others()
    if waiting:
        out.print(f"{waiting} more recipes are being measured; the Trials page shows how far they are.")


class _Services:
    """Processes that were started here, stopped when the block ends, in whatever way it ends."""

    def __init__(self) -> None:
        self._cluster = Cluster(VAR)
        self._children: list[tuple[str, subprocess.Popen]] = []
        self._helpers: list[subprocess.Popen] = []
        self._started_database = False
        self._address = ""

    def __enter__(self) -> "_Services":
        signal.signal(signal.SIGTERM, lambda *_: sys.exit(143))
        # A shell starts background commands with this signal ignored; stopping must work there too.
        signal.signal(signal.SIGINT, signal.default_int_handler)
        return self

    def __exit__(self, *_: object) -> None:
        children = [*(child for _, child in self._children), *self._helpers]
        for child in reversed(children):
            if child.poll() is None:
                # Helpers start programs of their own, which end with them.
                os.killpg(child.pid, signal.SIGTERM) if child in self._helpers else child.terminate()
        for child in children:
            try:
                child.wait(15)
            except subprocess.TimeoutExpired:
                child.kill()
        if self._started_database:
            self._cluster.stop()
            err.print("  stopped")

    def database(self) -> None:
        step("database", self._start_database)

    def _start_database(self) -> str:
        said = self._cluster.start()
        self._started_database = not said.startswith("runs")
        return said

    def start(self, wanted: int) -> None:
        """Start worker and web server; they become ready while other things are done."""
        port = free_port(wanted)
        self._address = f"http://127.0.0.1:{port}"
        self._start("job worker", [sys.executable, "-m", "doppio", "manage", "work"])
        command = [sys.executable, "-m", "gunicorn", "doppio.site.wsgi:application", "--bind", f"127.0.0.1:{port}"]
        command += ["--worker-class", "gthread", "--workers", "1", "--threads", "8", "--timeout", "120"]
        command += ["--log-level", "warning", "--no-control-socket"]
        self._start("web server", command)

    def serve(self, opened: Callable[[], None] = lambda: None) -> None:
        """Say where to go once that is there, do what is to be done then, and wait until a process ends."""
        address = self._address
        step("web server and job worker", lambda: self._wait(address))
        from doppio.command.demo_data import entry_link

        out.print(f"\nDoppio is ready after {seconds_since_the_start():.1f} s:  {address}")
        link = entry_link()
        if link:
            out.print(f"Sign in, once:  {address}/enter/{link}", soft_wrap=True)
        opened()
        # What nobody had to wait for; its end, good or bad, ends nothing here.
        self._helpers.append(self._run("set-up", [str(ROOT / "doppio"), "setup"]))
        out.print("Ctrl-C stops it.\n")
        sys.stdout.flush()
        while all(child.poll() is None for _, child in self._children):
            time.sleep(0.3)
        for name, child in self._children:
            if child.poll() is not None:
                raise DoppioError(f"the {name} has ended with status {child.returncode}; see {_log_of(name)}")

    def _start(self, name: str, command: list[str]) -> None:
        self._children.append((name, self._run(name, command)))

    def _run(self, name: str, command: list[str]) -> subprocess.Popen:
        environment = os.environ | {"DJANGO_SETTINGS_MODULE": "doppio.site.settings", "DOPPIO_WARM_UP": "1"}
        with _log_of(name).open("a") as log:
            # A session of its own, so that Ctrl-C reaches only this process, which then stops the others in order.
            return subprocess.Popen(
                command, stdin=subprocess.DEVNULL, stdout=log, stderr=log, cwd=ROOT, env=environment,
                start_new_session=True,
            )  # fmt: skip

    def _wait(self, address: str) -> str:
        def ready() -> bool:
            for name, child in self._children:
                if child.poll() is not None:
                    raise DoppioError(f"the {name} ended with status {child.returncode}; see {_log_of(name)}")
            try:
                with urllib.request.urlopen(f"{address}/health", timeout=2) as response:
                    return response.status == 200
            except (urllib.error.URLError, OSError):
                return False

        wait_until(ready, 60, "the web server")
        return "running"


def seconds_since_the_start() -> float:
    """Time since the launcher began, installing included."""
    return time.time() - float(os.environ.get(BEGUN, time.time()))


def _log_of(name: str) -> Path:
    return VAR / f"{name.replace(' ', '-')}.log"
