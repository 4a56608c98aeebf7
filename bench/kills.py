"""Kills Doppio's processes at random moments of imports, builds and trials, and says what held.

    .venv/bin/python bench/kills.py [--kills 200] [--seed 1] [--documents 12]

A part of the demo is served from a folder of its own. Beside it documents are brought in, recipes are saved and
measured, and questions are asked; now and then the worker, a web server, the database, one of its backends or the
supervisor gets a SIGKILL. The supervisor is started again by this script, as an operator's init system does; all else
has to come back by itself. After the last kill everything may come to rest, and then is counted.
"""

import argparse
import json
import os
import random
import re
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
import time
import urllib.error
import urllib.request
import uuid
from pathlib import Path

import numpy as np

from doppio.core.store.artifacts import ArtifactStore
from doppio.launch.cluster import Cluster

sys.path.insert(0, str(Path(__file__).parent))
from askers import sign_in

ROOT = Path(__file__).resolve().parents[1]
UP_WITHIN, STILL = 30.0, 120.0
TARGETS = ("job worker", "web server", "web server 2", "database", "backend", "supervisor")
BETWEEN = (1.0, 6.0)


class Service:
    """A Doppio of its own, in a folder of its own."""

    def __init__(self, folder: Path, documents: int) -> None:
        self.var = folder / "var"
        self.var.mkdir()
        (self.var / "models").symlink_to(ROOT / "var" / "models")
        self.environment = {name: value for name, value in os.environ.items() if name != "DOPPIO_DATABASE"}
        self.environment |= {"DOPPIO_VAR": str(self.var), "DOPPIO_DEMO": str(_part_of_the_demo(folder, documents))}
        self.address, self.headers = "", {}
        self.process: subprocess.Popen | None = None

    def start(self, command: str) -> None:
        out = self.var / "out.txt"
        with out.open("w") as file:
            self.process = subprocess.Popen(
                ["./doppio", command], cwd=ROOT, env=self.environment, stdout=file, stderr=file
            )
        while "Sign in, once" not in out.read_text():
            if self.process.poll() is not None:
                sys.exit(f"it does not start:\n{out.read_text()}")
            time.sleep(0.05)
        said = out.read_text()
        if not self.headers:
            self.headers = sign_in(re.search(r"http://\S+/enter/\S+", said)[0])
        self.address = re.search(r"http://127\.0\.0\.1:\d+", said)[0]

    def call(self, method: str, tail: str, body: bytes | None = None, kind: str = "application/json") -> object:
        """An answer of the API's; asked again until there is one, whatever is killed meanwhile."""
        while True:
            headers = {**self.headers, "Content-Type": kind}
            asked = urllib.request.Request(f"{self.address}/api/{tail}", body, headers, method=method)
            try:
                with urllib.request.urlopen(asked, timeout=20) as answer:
                    text = answer.read()
                    return json.loads(text) if text else None
            except urllib.error.HTTPError as error:
                if error.code not in (409, 429, 500, 502, 503):
                    raise RuntimeError(f"{method} {tail}: {error.code} {error.read()[:300]!r}") from error
            except OSError:
                pass
            time.sleep(0.3)

    def well(self) -> bool:
        try:
            with urllib.request.urlopen(f"{self.address}/health", timeout=2) as answer:
                return answer.status == 200
        except OSError:
            return False

    def target(self, name: str) -> int | None:
        """A process of that sort."""
        supervisor = self.process.pid
        if name == "supervisor":
            return supervisor
        rows = [line.split(None, 2) for line in _ps("--ppid", str(supervisor), "-o", "pid=,stat=,comm=")]
        children = {comm: int(pid) for pid, stat, comm in rows if stat[0] != "Z"}
        if name == "backend":
            postmaster = children.get("postgres")
            told = _ps("--ppid", str(postmaster), "-o", "pid=,args=") if postmaster else []
            backends = [int(line.split()[0]) for line in told if "doppio_app" in line]
            return random.choice(backends) if backends else None
        return children.get("postgres" if name == "database" else name)


def _ps(*arguments: str) -> list[str]:
    return subprocess.run(["ps", *arguments], capture_output=True, text=True).stdout.splitlines()


def _part_of_the_demo(folder: Path, count: int) -> Path:
    whole, part = ROOT / "demo", folder / "demo"
    names = sorted(p.relative_to(whole / "documents").as_posix() for p in (whole / "documents").rglob("*.md"))[:count]
    for name in names:
        (part / "documents" / name).parent.mkdir(parents=True, exist_ok=True)
        shutil.copy(whole / "documents" / name, part / "documents" / name)
    (part / "recipes").mkdir()
    shutil.copy(whole / "recipes" / "two-branch-1.json", part / "recipes")
    lines = (whole / "questions.jsonl").read_text().splitlines()
    held = [one for one in lines if {a["document"] for a in json.loads(one).get("answers", [])} <= set(names)]
    (part / "questions.jsonl").write_text("\n".join(held[:20]))
    return part


class Load(threading.Thread):
    """Somebody who works: brings a document in, saves a recipe that has to be built, asks."""

    def __init__(self, service: Service, place: int, recipe: dict, seed: int) -> None:
        super().__init__(daemon=True)
        self.service, self.place, self.recipe, self.body = service, place, recipe["id"], recipe["body"]
        self.dice = random.Random(seed)
        self.brought: list[str] = []
        self.asked = self.trials = 0
        self.stop = threading.Event()
        self.wrong: list[str] = []

    def run(self) -> None:
        while not self.stop.is_set():
            try:
                # Recipes are rare: each has to be built, and the last of them is waited for.
                self.dice.choice([self.bring_in] * 4 + [self.ask] * 6 + [self.measure])()
            except Exception as error:
                self.wrong.append(f"{type(error).__name__}: {error}")
            time.sleep(self.dice.uniform(0.1, 1.0))

    def send(self, tail: str, body: object) -> object:
        return self.service.call("POST", f"workspaces/{self.place}/{tail}", json.dumps(body).encode())

    def bring_in(self) -> None:
        name = f"brought/{len(self.brought)}-{uuid.uuid4().hex[:6]}.md"
        text = f"# Note {name}\n\n" + " ".join(self.dice.choices(WORDS, k=120))
        number = self.send("imports", None)["id"]
        edge = uuid.uuid4().hex
        form = (
            f'--{edge}\r\nContent-Disposition: form-data; name="names"\r\n\r\n{name}\r\n--{edge}\r\n'
            f'Content-Disposition: form-data; name="files"; filename="x.md"\r\n\r\n{text}\r\n--{edge}--\r\n'
        )
        tail = f"workspaces/{self.place}/imports/{number}/files"
        self.service.call("POST", tail, form.encode(), f"multipart/form-data; boundary={edge}")
        self.send(f"imports/{number}/start", None)
        self.brought.append(name)

    def measure(self) -> None:
        size = self.dice.randrange(60, 240, 20)
        chunking = {
            **self.body["chunking"],
            "size": size,
            "overlap": min(self.body["chunking"].get("overlap", 0), 20),
        }
        self.send("recipes/save", {"body": {**self.body, "chunking": chunking}, "note": ""})
        self.trials += 1

    def ask(self) -> None:
        self.send("ask", {"text": " ".join(self.dice.choices(WORDS, k=5)), "recipe": self.recipe})
        self.asked += 1


WORDS = (
    "cabin rope wind tower line gale dog ticket brake station alarm night ice fog patrol crown valley rescue".split()
)


def main() -> None:
    given = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    given.add_argument("--kills", type=int, default=200)
    given.add_argument("--seed", type=int, default=1)
    given.add_argument("--documents", type=int, default=12)
    chosen = given.parse_args()
    random.seed(chosen.seed)
    with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as folder:
        service = Service(Path(folder), chosen.documents)
        service.start("demo")
        try:
            ok = _kill(service, chosen.kills, chosen.seed)
        finally:
            if service.process.poll() is None:
                service.process.send_signal(signal.SIGINT)
                service.process.wait(90)
            cluster = Cluster(service.var)
            cluster.stop()
            shutil.rmtree(cluster.data.parent, ignore_errors=True)
    sys.exit(0 if ok else 1)


def _kill(service: Service, kills: int, seed: int) -> bool:
    place = service.call("GET", "workspaces")[0]["id"]
    recipes = service.call("GET", f"workspaces/{place}/recipes")
    before = {row["name"] for row in service.call("GET", f"workspaces/{place}/documents")}
    # Others that are saved meanwhile cannot be asked before they have been built; this one can all the time.
    first = next(row for row in recipes if row["in_force"])
    question = json.dumps({"text": "wind", "recipe": first["id"]}).encode()
    load = Load(service, place, first, seed)
    load.start()
    back: dict[str, list[float]] = {name: [] for name in TARGETS}
    for number in range(kills):
        time.sleep(random.uniform(*BETWEEN))
        name = TARGETS[number % len(TARGETS)]
        process = service.target(name)
        if process is None:
            continue
        begun = time.monotonic()
        os.kill(process, signal.SIGKILL)
        if name == "supervisor":
            service.process.wait()
            service.start("serve")
        time.sleep(0.05)
        while not service.well() and time.monotonic() - begun < 4 * UP_WITHIN:
            time.sleep(0.05)
        service.call("POST", f"workspaces/{place}/ask", question)
        back[name].append(time.monotonic() - begun)
        if number % 20 == 19:
            print(
                f"  {number + 1} kills, {len(load.brought)} documents brought in, {load.trials} recipes", flush=True
            )
    load.stop.set()
    load.join(120)
    print("killed          times   answers again after (median, longest), s")
    for name, seconds in back.items():
        if seconds:
            print(f"  {name:13} {len(seconds):5}   {np.median(seconds):6.1f} {max(seconds):6.1f}")
    return _count(service, place, before, load, back)


def _count(service: Service, place: int, before: set, load: Load, back: dict[str, list[float]]) -> bool:
    """What is there once everything has come to rest: no job is left, or none has moved for long."""
    before_now, moved = None, time.monotonic()
    while True:
        jobs = service.call("GET", f"workspaces/{place}/jobs")
        alive = [job for job in jobs if job["state"] in ("queued", "running")]
        now = [(job["id"], job["state"], job["step"], job["done"]) for job in jobs]
        if now != before_now:
            before_now, moved = now, time.monotonic()
        if not alive or time.monotonic() - moved > STILL:
            break
        time.sleep(1)
    there = {row["name"] for row in service.call("GET", f"workspaces/{place}/documents")}
    lost = (before | set(load.brought)) - there
    failed = [job["message"] for job in jobs if job["state"] == "failed"]
    # The recipe in force is the one that is built again after every change.
    answered = service.call("POST", f"workspaces/{place}/ask", json.dumps({"text": "wind"}).encode())
    damaged = ArtifactStore(service.var / "artifacts").look_through(lambda _: None)
    late = sum(second > UP_WITHIN for seconds in back.values() for second in seconds)
    print(
        f"up again later than {UP_WITHIN:.0f} s: {late}; "
        f"documents lost: {len(lost)} of {len(before) + len(load.brought)}; "
        f"jobs that nobody ends: {len(alive)}; jobs that failed: {len(failed)}; artifacts damaged: {len(damaged)}; "
        f"documents not in the index at rest: {answered['absent']['count']}; answers to {load.asked} questions; "
        f"requests refused: {len(load.wrong)}"
    )
    for text in (*failed[:3], *load.wrong[:3], *damaged[:3], *sorted(lost)[:3]):
        print(f"    {text}")
    return not (late or lost or alive or damaged or answered["absent"]["count"])


if __name__ == "__main__":
    main()
