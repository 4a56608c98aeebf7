"""`./doppio test`: all linters, type checks and test classes; the last line is `N passed, N failed, N skipped`."""

import argparse
import fcntl
import json
import os
import shutil
import signal
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

# Each lane is given one core: whatever counts cores finds one. It stands before anything that counts is imported.
# There are two lanes more than there are cores: those with a browser or a server wait a third of their time.
LANES = len(os.sched_getaffinity(0)) + 2
ONE = ("DOPPIO_CORES", "OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS", "NUMBA_NUM_THREADS")
os.environ.update(dict.fromkeys(ONE, "1"))

from doppio.launch.cluster import Cluster  # noqa: E402
from doppio.launch.places import ROOT, VAR  # noqa: E402
from doppio.launch.steps import step  # noqa: E402
from tests.running.in_memory import copied, keep  # noqa: E402
from tests.running.jobs import Check, Tests, checks, tests  # noqa: E402
from tests.running.outcomes import Outcome, slowest_first, summary  # noqa: E402

HOME = VAR / "test"
# How long each took when it ran last here, or, on a machine where nothing has run, where this was written.
SECONDS, SHIPPED = HOME / "seconds.json", ROOT / "tests" / "running" / "seconds.json"
UNKNOWN = 5.0
# Where files are in memory, and what there has to be of it.
MEMORY, ROOM = Path("/dev/shm"), 4 * 2**30


def main() -> int:
    """Run what the arguments name; the exit status is 0 if all is well."""
    given = _arguments()
    HOME.mkdir(parents=True, exist_ok=True)
    with (HOME / "running.lock").open("w") as lock:
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            print("doppio: tests are running in this checkout already; wait for them, or end them", file=sys.stderr)
            return 2
        return _run_alone(given)


def _run_alone(given: argparse.Namespace) -> int:
    # Whoever is told to end ends the lanes and the database first.
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(143))
    scratch = Path(tempfile.mkdtemp(prefix="doppio-test-", dir=MEMORY if _is_roomy(MEMORY) else None))
    # Database servers of tests run under an account of their own, and have to get through.
    scratch.chmod(0o711)
    kept = Cluster(HOME, quick=True)
    try:
        cluster = copied(kept, scratch / "cluster")
        try:
            step("test database", cluster.start)
            _settle(cluster, scratch)
            outcomes = _run(given, scratch, lambda: keep(cluster, kept))
        finally:
            cluster.stop()
    finally:
        shutil.rmtree(scratch, ignore_errors=True)
    if given.record:
        SHIPPED.write_text(json.dumps(_rounded(outcomes), indent=0, sort_keys=True) + "\n")
    if given.each:
        print("\nSeconds of each test, and of its own process's work, the slowest first")
        single = [Outcome(name, took, worked=worked) for outcome in outcomes for name, took, worked in outcome.tests]
        print("\n".join(slowest_first(single)))
    print("\nSeconds of each class and check, and of the processors' work for it, the slowest first")
    print("\n".join(slowest_first(outcomes)))
    for outcome in outcomes:
        if outcome.is_check and outcome.failures:
            print(f"the check failed: {outcome.name}")
    said, well = summary(outcomes)
    print(said, flush=True)
    return 0 if well else 1


def _is_roomy(folder: Path) -> bool:
    return os.access(folder, os.W_OK) and shutil.disk_usage(folder).free >= ROOM


def _arguments() -> argparse.Namespace:
    parser = argparse.ArgumentParser(prog="./doppio test", description="Run all checks and tests.")
    parser.add_argument("names", nargs="*", help="dotted names below tests; all where none is given")
    parser.add_argument("--no-lint", action="store_true", help="leave out linters and type checks")
    parser.add_argument("--lanes", type=int, default=LANES, help="processes side by side")
    parser.add_argument("--each", action="store_true", help="tell the seconds of each test as well")
    parser.add_argument("--record", action="store_true", help=f"keep the seconds in {SHIPPED.relative_to(ROOT)}")
    return parser.parse_args()


def _settle(cluster: Cluster, scratch: Path) -> None:
    """Nothing that a test builds or asks may touch what the application keeps."""
    place = {"DOPPIO_ARTIFACTS": scratch / "artifacts", "DOPPIO_FILES": scratch / "files", "TMPDIR": scratch / "tmp"}
    (scratch / "tmp").mkdir()
    os.environ.update({name: str(path) for name, path in place.items()})
    os.environ["DOPPIO_DATABASE"] = str(cluster.record)
    os.environ["DJANGO_SETTINGS_MODULE"] = "tests.running.settings"
    tempfile.tempdir = None
    import django
    from django.test.utils import setup_test_environment

    django.setup()
    setup_test_environment()


def _run(given: argparse.Namespace, scratch: Path, keep_template: Callable[[], None]) -> list[Outcome]:
    from tests.browser.page import forget_pictures
    from tests.running import databases
    from tests.running.compiled_once import compile_once
    from tests.running.lanes import run_all

    forget_pictures()
    compile_once()

    found: list[Check | Tests] = [*tests(given.names)]
    if not given.no_lint and not given.names:
        found += checks()
    expected = json.loads(path.read_text()) if (path := SECONDS if SECONDS.exists() else SHIPPED).exists() else {}
    found.sort(key=lambda job: -expected.get(job.name, UNKNOWN))
    begun = time.monotonic()
    outcomes = []
    for outcome in run_all(found, given.lanes, databases.template(keep_template), scratch):
        outcomes.append(outcome)
        print(outcome.line, flush=True)
        for test, why in outcome.failures:
            print(f"\n{'=' * 100}\n{test}\n{'-' * 100}\n{why}", flush=True)
    SECONDS.write_text(json.dumps(expected | _rounded(outcomes)))
    busy = sum(outcome.seconds for outcome in outcomes)
    worked = sum(outcome.worked for outcome in outcomes)
    print(f"\n{time.monotonic() - begun:.0f} s, {busy:.0f} s on {given.lanes} lanes, {worked:.0f} s of processors")
    return outcomes


def _rounded(outcomes: list[Outcome]) -> dict[str, float]:
    return {outcome.name: round(outcome.seconds, 1) for outcome in outcomes}


if __name__ == "__main__":
    sys.exit(main())
