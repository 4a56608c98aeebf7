"""How many questions and labels a running Doppio bears: a file of them comes in, lists, pins and judgements answer.

    .venv/bin/python bench/labels.py SIGN-IN-LINK [--questions 50000] [--labels 4] [--documents 300]

A workspace of its own is made of made-up documents, and removed at the end. Times are medians as a browser on this
machine has them; the file is sent once to be looked at and once to be written.
"""

import argparse
import csv
import io
import json
import random
import time
import urllib.request
import uuid
import zipfile
from collections.abc import Callable
from urllib.parse import urlsplit

import numpy as np
from askers import sign_in

WORDS = (
    "rope pulley gondola wind tower cabin brake grip station motor chair ice snow cable sheave guard lamp switch "
    "drive carriage tension door platform signal alarm line valley summit ticket guest dog ski bicycle rescue winch"
).split()


def made_up(count: int, sentences: int, lot: random.Random) -> dict[str, list[str]]:
    """Documents by name, each a list of sentences that stand in no other."""
    found = {}
    for number in range(count):
        found[f"page-{number:05}.md"] = [
            f"{' '.join(lot.choices(WORDS, k=12)).capitalize()} number {number}-{place}."
            for place in range(sentences)
        ]
    return found


class Server:
    """Requests as the interface sends them."""

    def __init__(self, link: str) -> None:
        self._headers = sign_in(link)
        parts = urlsplit(link)
        self._base = f"{parts.scheme}://{parts.netloc}/api"

    def send(self, method: str, path: str, body: object = None, form: tuple[bytes, str] | None = None) -> object:
        headers = dict(self._headers)
        data = json.dumps(body).encode() if body is not None else None
        if form is not None:
            data, headers["Content-Type"] = form
        request = urllib.request.Request(f"{self._base}{path}", data, headers, method=method)
        with urllib.request.urlopen(request, timeout=300) as answer:
            said = answer.read()
        return json.loads(said) if said else None


def form_of(fields: dict[str, str], files: dict[str, tuple[str, bytes]]) -> tuple[bytes, str]:
    """A form with files, as a browser sends it."""
    edge = uuid.uuid4().hex
    parts = [
        f'--{edge}\r\nContent-Disposition: form-data; name="{name}"\r\n\r\n{value}\r\n'.encode()
        for name, value in fields.items()
    ]
    for name, (file, data) in files.items():
        head = f'--{edge}\r\nContent-Disposition: form-data; name="{name}"; filename="{file}"\r\n\r\n'
        parts += [head.encode(), data, b"\r\n"]
    return b"".join([*parts, f"--{edge}--\r\n".encode()]), f"multipart/form-data; boundary={edge}"


def median(work: Callable[[], object], times: int) -> tuple[float, float]:
    """Median and 95th percentile, in milliseconds."""
    took = []
    for _ in range(times):
        begun = time.perf_counter()
        work()
        took.append(1000 * (time.perf_counter() - begun))
    return float(np.median(took)), float(np.percentile(took, 95))


def main() -> None:
    arguments = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    arguments.add_argument("link")
    arguments.add_argument("--questions", type=int, default=50_000)
    arguments.add_argument("--labels", type=int, default=4)
    arguments.add_argument("--documents", type=int, default=300)
    given = arguments.parse_args()
    server, lot = Server(given.link), random.Random(7)
    pages = made_up(given.documents, 40, lot)
    at = f"/workspaces/{server.send('POST', '/workspaces', {'name': f'Many questions {uuid.uuid4().hex[:6]}'})['id']}"
    try:
        bring_in(server, at, pages)
        measure(server, at, given, pages, lot)
    finally:
        server.send("DELETE", f"{at}/")


def bring_in(server: Server, at: str, pages: dict[str, list[str]]) -> None:
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as out:
        for name, sentences in pages.items():
            lines = [
                f"## Part {place // 20}\n\n{' '.join(sentences[place : place + 20])}" for place in range(0, 40, 20)
            ]
            out.writestr(name, f"# {name}\n\n" + "\n\n".join(lines))
    number = server.send("POST", f"{at}/imports")["id"]
    form = form_of({"names": "pages.zip"}, {"files": ("pages.zip", packed.getvalue())})
    server.send("POST", f"{at}/imports/{number}/files", form=form)
    begun = time.monotonic()
    server.send("POST", f"{at}/imports/{number}/start")
    while any(job["state"] in ("queued", "running") for job in server.send("GET", f"{at}/jobs")):
        time.sleep(0.5)
    print(f"{len(pages):,} documents in, built and measured: {time.monotonic() - begun:.1f} s")


def measure(
    server: Server, at: str, given: argparse.Namespace, pages: dict[str, list[str]], lot: random.Random
) -> None:
    table = io.StringIO()
    out = csv.writer(table)
    out.writerow(["id", "question", "document", "quote", "tags"])
    names = list(pages)
    for number in range(given.questions):
        text = f"{' '.join(lot.choices(WORDS, k=7))} {number}?"
        for name in lot.sample(names, given.labels):
            out.writerow([f"n{number}", text, name, lot.choice(pages[name]), f"tag {number % 9}"])
    data = table.getvalue().encode()
    options = {"new_set": "Many", "skip": False}
    for write in (False, True):
        form = form_of({"options": json.dumps({**options, "write": write})}, {"file": ("many.csv", data)})
        begun = time.perf_counter()
        said = server.send("POST", f"{at}/question-sets/import", form=form)
        took = time.perf_counter() - begun
        what = "written" if write else "looked at"
        print(f"{said['questions']:,} questions, {said['labels']:,} labels {what}: {took:.1f} s")
    rows = server.send("GET", f"{at}/questions?limit=1000")
    some = [row["id"] for row in lot.sample(rows, 40)]
    document = server.send("GET", f"{at}/documents")[0]["id"]
    turn = iter(some * 4)
    label = {"document": document, "start": 10, "end": 30, "grade": 2}
    for name, work in (
        ("a page of 1,000 questions", lambda: server.send("GET", f"{at}/questions?limit=1000&after={some[0]}")),
        ("a page of 100 questions", lambda: server.send("GET", f"{at}/questions?limit=100&after={some[0]}")),
        ("the sets with their counts", lambda: server.send("GET", f"{at}/question-sets")),
        ("the line", lambda: server.send("GET", f"{at}/line")),
        ("a pin", lambda: server.send("GET", f"{at}/questions/{next(turn)}")),
        ("a label", lambda: server.send("POST", f"{at}/questions/{next(turn)}/labels", label)),
        ("coverage", lambda: server.send("GET", f"{at}/question-coverage")),
        ("suggestions", lambda: server.send("GET", f"{at}/suggestions")),
        ("the history", lambda: server.send("GET", f"{at}/events")),
    ):
        work()
        middle, late = median(work, 20)
        print(f"{name}: median {middle:.0f} ms, 95 % within {late:.0f} ms")


if __name__ == "__main__":
    main()
