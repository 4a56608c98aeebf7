"""Three hosts that are network namespaces of this machine, and what happens when parts of them die.

    PYTHONPATH=src:. .venv/bin/python bench/hosts.py FOLDER [worker scheduler link objects disk]

As root, with iproute2. Host `one` has PostgreSQL, Doppio and the scheduler; `two` has the object store and a worker,
`three` a worker. The demo is served from the two workers with two copies of each segment. Then, one after another, a
worker is killed while it encodes, the scheduler is killed and comes back, it is killed for good, a link is cut, the
object store's host is cut off, and disks are filled. Told are what a user sees, how long it takes, and whether what
was built is, array for array, what one machine builds.
"""

import argparse
import json
import os
import re
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

ROOT = Path(__file__).resolve().parents[1]
HOSTS = {"one": "10.77.0.1", "two": "10.77.0.2", "three": "10.77.0.3"}
BRIDGE, SCHEDULER, OBJECTS = "ropeway0", 8786, 9000
NAME = "assistant"
Within = Callable[..., str]
PARTS, FILLER = ("worker", "scheduler", "link", "objects", "disk"), "filler"
QUESTIONS = ("How strong may the wind be?", "What does alarm E-417 mean?", "May I bring my bicycle?")

SHELL = {
    "publish": f"""
from doppio.jobs.models import Job
from doppio.jobs.running import request_cancel
from doppio.recipes.models import RecipeVersion
from doppio.serving.models import Published
from doppio.serving.keys import Limits, make_key
from doppio.serving.services import publish
recipe = RecipeVersion.objects.filter(in_force=True).earliest("workspace_id")
for job in Job.objects.filter(state__in=[Job.QUEUED, Job.RUNNING]):
    request_cancel(job)
published = Published.objects.filter(name="{NAME}").first() or publish(recipe, "{NAME}", None)
key, secret = make_key(published, "bench", ["search"], Limits(), None)
print("SAID", json.dumps(secret))
""",
    "begin": """
from doppio.recipes.services import core_recipe, save_recipe
from doppio.recipes.models import RecipeVersion
from doppio.trials.services import start_trial
base = RecipeVersion.objects.filter(in_force=True).earliest("workspace_id")
body = core_recipe(base).body
cutting = {"rule": "natural-breaks", "unit": "tokens", "size": SIZE, "overlap": 8}
row = RecipeVersion.objects.filter(name=f"cut at {SIZE}").first()
row = row or save_recipe(base.workspace, {**body, "name": f"cut at {SIZE}", "chunking": cutting, "rerank": None})
job = start_trial(row, None)
print("SAID", json.dumps(job.pk))
""",
    "look": """
from doppio.jobs.models import Job
job = Job.objects.get(pk=NUMBER)
print("SAID", json.dumps([job.state, job.step, job.done, job.total, round(job.rate), job.message]))
""",
    "same": """
import tempfile
from pathlib import Path
from doppio.core.build.builder import Builder
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.store.manifest import read_manifest
from doppio.library.corpus import core_documents, corpus_now
from doppio.library.texts import RecordedTexts
from doppio.recipes.builds import builder, models
from doppio.recipes.models import RecipeVersion
from doppio.recipes.services import core_recipe
row = RecipeVersion.objects.get(name=f"cut at {SIZE}")
recipe, corpus, there = core_recipe(row), corpus_now(row.workspace), builder()
with tempfile.TemporaryDirectory() as folder:
    alone = Builder(ArtifactStore(Path(folder)), models, most_chunks=there.most_chunks)
    table = alone.chunks(core_documents(row.workspace), corpus.key, recipe)
    alone.indexes(corpus.key, recipe, RecordedTexts(corpus, table, recipe.chunking["context"]))
    wanted = alone.artifacts(alone.keys(corpus.key, recipe))
    for kind, key in wanted:
        there.store.open(kind, key)
    arrays = lambda store, kind, key: read_manifest(store.folder_of(kind, key))["arrays"]
    different = [kind for kind, key in wanted if arrays(there.store, kind, key) != arrays(alone.store, kind, key)]
print("SAID", json.dumps([len(wanted), different]))
""",
}  # fmt: skip


class Hosts:
    """The hosts and what runs on them."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.running: dict[str, subprocess.Popen[bytes]] = {}
        self.objects = {
            "AWS_ENDPOINT_URL": f"http://{HOSTS['two']}:{OBJECTS}", "AWS_ACCESS_KEY_ID": "rope",
            "AWS_SECRET_ACCESS_KEY": "way", "AWS_DEFAULT_REGION": "us-east-1", "AWS_EC2_METADATA_DISABLED": "true",
        }  # fmt: skip
        self.secret = ""

    def place(self, host: str) -> dict[str, str]:
        """The environment of a host: a disk of its own, and the store that all share."""
        home = self.folder / host
        if not home.exists():
            # Nothing can be installed behind closed doors.
            shutil.copytree(ROOT / "var" / "models", home / "models", copy_function=os.link)
        return {
            **os.environ, **self.objects, "PYTHONPATH": str(ROOT / "src"), "DOPPIO_VAR": str(home),
            "DOPPIO_STORE": "s3://ropeway/doppio",
            "DOPPIO_DASK": f"{HOSTS['one']}:{SCHEDULER}", "DOPPIO_COPIES": "2",
            "DOPPIO_SEGMENT_CHUNKS": "150", "NUMBA_CACHE_DIR": str(ROOT / "var" / "numba"),
        }  # fmt: skip

    def up(self) -> None:
        self.down()
        ip("link", "add", BRIDGE, "type", "bridge")
        ip("link", "set", BRIDGE, "up")
        for host, address in HOSTS.items():
            ip("netns", "add", f"ropeway-{host}")
            ip("link", "add", f"rw-{host}", "type", "veth", "peer", "name", "eth0", "netns", f"ropeway-{host}")
            ip("link", "set", f"rw-{host}", "master", BRIDGE, "up")
            within = ("-n", f"ropeway-{host}")
            ip(*within, "addr", "add", f"{address}/24", "dev", "eth0")
            ip(*within, "link", "set", "eth0", "up")
            ip(*within, "link", "set", "lo", "up")

    def down(self) -> None:
        for name in list(self.running):
            self.kill(name)
        for host in HOSTS:
            subprocess.run(["ip", "netns", "del", f"ropeway-{host}"], capture_output=True)
            subprocess.run(["ip", "link", "del", f"rw-{host}"], capture_output=True)
        subprocess.run(["ip", "link", "del", BRIDGE], capture_output=True)

    def link(self, host: str, state: str) -> None:
        ip("link", "set", f"rw-{host}", state)

    def begin(self, name: str, host: str, *command: str) -> None:
        log = (self.folder / f"{name}.log").open("ab")
        self.running[name] = subprocess.Popen(
            ["ip", "netns", "exec", f"ropeway-{host}", *command],
            env=self.place(host), cwd=ROOT, stdout=log, stderr=log, start_new_session=True,
        )  # fmt: skip

    def kill(self, name: str, sign: int = signal.SIGKILL) -> None:
        process = self.running.pop(name, None)
        if process is not None:
            with suppress(ProcessLookupError):
                os.killpg(process.pid, sign)
            process.wait(60)

    def store(self) -> None:
        self.begin("objects", "two", sys.executable, "-m", "moto.server", "-H", HOSTS["two"], "-p", str(OBJECTS))
        made = (
            "import boto3, time\n"
            "for _ in range(100):\n"
            "    try: boto3.client('s3').create_bucket(Bucket='ropeway'); break\n"
            "    except Exception: time.sleep(0.2)\n"
        )
        self.run("two", sys.executable, "-c", made)

    def scheduler(self) -> None:
        self.begin(
            "scheduler", "one", sys.executable, "-m", "distributed.cli.dask_scheduler", "--host", HOSTS["one"],
            "--port", str(SCHEDULER), "--no-dashboard", "--no-show",
        )  # fmt: skip

    def worker(self, host: str) -> None:
        address = f"tcp://{HOSTS['one']}:{SCHEDULER}"
        self.begin(f"worker {host}", host, sys.executable, "-m", "doppio", "worker", address, "--processes", "1")

    def run(self, host: str, *command: str, given: str = "", check: bool = True) -> str:
        done = subprocess.run(
            ["ip", "netns", "exec", f"ropeway-{host}", *command], env=self.place(host), cwd=ROOT, text=True,
            input=given, capture_output=True, check=False,
        )  # fmt: skip
        if check and done.returncode:
            raise SystemExit(f"{' '.join(command)}: {done.stdout}\n{done.stderr}")
        return done.stdout

    def said(self, what: str, **values: Any) -> Any:
        """What a piece of Python says in Doppio's own shell on host one."""
        body = "import json\n" + "".join(f"{name} = {value!r}\n" for name, value in values.items()) + SHELL[what]
        text = self.run("one", sys.executable, "-m", "doppio", "manage", "shell", given=f"exec({body!r})\n")
        return json.loads(re.findall(r"SAID (.*)", text)[-1])

    def asked(self, question: str) -> tuple[float, int, dict[str, Any]]:
        """Seconds, status and body of a served question."""
        begun = time.perf_counter()
        text = self.run(
            "one", "curl", "-s", "-m", "60", "-w", "\n%{http_code}", f"{self.address}/serve/{NAME}/search",
            "-H", f"Authorization: Bearer {self.secret}", "-H", "Content-Type: application/json",
            "-d", json.dumps({"question": question}), check=False,
        )  # fmt: skip
        body, _, code = text.rpartition("\n")
        return time.perf_counter() - begun, int(code or 0), json.loads(body) if body.startswith("{") else {}

    @property
    def address(self) -> str:
        found = re.findall(r"(http://127.0.0.1:\d+)/enter", (self.folder / "doppio.log").read_text())
        return found[-1] if found else ""


def ip(*given: str) -> None:
    subprocess.run(["ip", *given], check=True)


def until(done: Any, seconds: float, what: str) -> float:
    begun = time.monotonic()
    while not done():
        if time.monotonic() - begun > seconds:
            raise SystemExit(f"{what} did not come in {seconds:.0f} s")
        time.sleep(0.2)
    return time.monotonic() - begun


def passages(body: dict[str, Any]) -> list[Any]:
    return [(one["document"], one["start"], one["score"]) for one in body.get("passages", [])]


def main() -> None:
    given = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    given.add_argument("folder", type=Path)
    given.add_argument("parts", nargs="*", choices=[*PARTS, []], help="What dies; all of them where none is named.")
    told = given.parse_args()
    hosts = Hosts(told.folder.resolve())
    shutil.rmtree(hosts.folder, ignore_errors=True)
    hosts.folder.mkdir(parents=True)
    try:
        hosts.up()
        hosts.store()
        hosts.scheduler()
        hosts.worker("two")
        hosts.worker("three")
        hosts.begin("doppio", "one", str(ROOT / "doppio"), "demo")
        took = until(lambda: hosts.address, 400, "Doppio")
        print(f"the demo is built on two workers, and served, after {took:.0f} s", flush=True)
        hosts.secret = hosts.said("publish")
        until(lambda: hosts.asked(QUESTIONS[0])[1] == 200, 60, "the first answer")
        expected = [passages(hosts.asked(text)[2]) for text in QUESTIONS]
        tried(hosts, expected, told.parts or PARTS)
    finally:
        hosts.down()


def tried(hosts: Hosts, expected: list[list[Any]], parts: Sequence[str]) -> None:
    def answers(said: str) -> None:
        rows = [hosts.asked(text) for text in QUESTIONS]
        for question, (seconds, code, body), wanted in zip(QUESTIONS, rows, expected, strict=True):
            whole = "the same passages" if passages(body) == wanted else f"{len(passages(body))} passages"
            told = "; ".join(body.get("absent", [])) or body.get("detail", "") or whole
            print(f"  {said}: {question} {code} in {seconds:.2f} s: {told}", flush=True)

    def built(size: int, after: str, hurt: Any, heal: Any, state: str = "done") -> None:
        number = hosts.said("begin", SIZE=size)
        until(lambda: hosts.said("look", NUMBER=number)[1] == "encode chunks", 120, "encoding")
        begun = time.monotonic()
        hurt()
        print(f"  {after}: {hosts.said('look', NUMBER=number)}", flush=True)
        heal()
        until(lambda: hosts.said("look", NUMBER=number)[0] not in ("queued", "running"), 400, "the end of the job")
        ended = hosts.said("look", NUMBER=number)
        same = hosts.said("same", SIZE=size) if ended[0] == "done" else ""
        told = "" if not same else f"; {same[0]} artifacts, {'all equal to one machine' if not same[1] else same[1]}"
        print(f"  ended after {time.monotonic() - begun:.0f} s: {ended[0]}: {ended[5]}{told}", flush=True)
        if ended[0] != state:
            raise SystemExit(f"it should have ended {state}")

    print("asked", flush=True)
    answers("all there")

    def worker() -> None:
        print("a worker is killed while it encodes", flush=True)
        built(91, "at that moment", lambda: hosts.kill("worker three"), lambda: hosts.worker("three"))

    def scheduler() -> None:
        print("the scheduler is killed while they encode, and comes back", flush=True)
        heal = lambda: (answers("without it"), hosts.scheduler())  # noqa: E731
        built(92, "at that moment", lambda: hosts.kill("scheduler"), heal)
        answers("after it came back")
        print("the scheduler is killed for good", flush=True)
        built(93, "at that moment", lambda: hosts.kill("scheduler"), lambda: None, "failed")
        hosts.scheduler()
        print("  and comes back: the next run goes on", flush=True)
        built(93, "at that moment", lambda: None, lambda: None)

    def link() -> None:
        print("the link to a worker is cut", flush=True)
        until(lambda: not hosts.asked(QUESTIONS[0])[2].get("absent", True), 120, "all segments")
        hosts.link("three", "down")
        answers("cut")
        time.sleep(3)
        answers("three seconds later")
        hosts.link("three", "up")
        until(lambda: hosts.asked(QUESTIONS[0])[0] < 1.0, 120, "all segments")
        answers("joined again")

    def objects() -> None:
        print("the host of the object store is cut off, while they encode", flush=True)
        built(94, "at that moment", lambda: hosts.link("two", "down"), lambda: answers("cut off"), "failed")
        hosts.link("two", "up")
        time.sleep(12)
        print("  and is there again: the next run goes on", flush=True)
        built(94, "at that moment", lambda: None, lambda: None)

    def disk() -> None:
        print("the disk of the first host is full", flush=True)
        cache = next((hosts.folder / "one").glob("cache-*"))
        with full(cache, hosts.running["doppio"].pid) as within:
            number = hosts.said("begin", SIZE=95)
            until(lambda: hosts.said("look", NUMBER=number)[0] not in ("queued", "running"), 200, "the job's end")
            print(f"  {hosts.said('look', NUMBER=number)}", flush=True)
            answers("meanwhile")
            left = [name for name in within("ls", "-A", str(cache)).split() if name != FILLER]
            print(f"  left there: {left or 'nothing'}", flush=True)
        built(95, "with room again", lambda: None, lambda: None)
        answers("at last")

    own = {"worker": worker, "scheduler": scheduler, "link": link, "objects": objects, "disk": disk}
    for part in PARTS:
        if part in parts:
            own[part]()


@contextmanager
def full(folder: Path, process: int) -> Iterator[Within]:
    """A folder on a disk of its own that nothing more fits on, as a process and its children see it: each host has
    mounts of its own. Gives what runs a command there."""

    def within(*command: str) -> str:
        given = ["nsenter", "-t", str(process), "-m", *command]
        return subprocess.run(given, check=True, capture_output=True, text=True).stdout

    within("mount", "-t", "tmpfs", "-o", "size=1m", "tmpfs", str(folder))
    try:
        within("sh", "-c", f"cat /dev/zero > {folder / FILLER} 2> /dev/null || true")
        yield within
    finally:
        within("umount", "-l", str(folder))


if __name__ == "__main__":
    main()
