"""Reading files that nobody vouches for: in a process of its own, within limits on time and memory.

The process reads one file after another. One that takes too long, needs too much memory or brings a parser down ends
the process and not the work: the next file gets a new one.
"""

import io
import json
import os
import resource
import selectors
import signal
import struct
import subprocess
import sys
import time
from collections.abc import Mapping, Sequence
from dataclasses import replace
from functools import cache, partial
from pathlib import Path
from typing import Any, BinaryIO, Protocol

from PIL import Image

from doppio.core.errors import DocumentError
from doppio.core.formats.archive import LIMITS, Limits
from doppio.core.formats.optical import ReadLine, Unread
from doppio.core.formats.records import Fields, fields_seen
from doppio.core.progress import Progress, Silent
from doppio.core.text.canonical import decode
from doppio.core.text.document import Block, Document
from doppio.core.text.outline import Section
from doppio.core.text.pictures import Line, Picture

READ, FIELDS, PAGE, PICTURES, WORDS, LINES = "read", "fields", "page", "pictures", "words", "lines"
GRACE = 5.0
# A page is read off in a few seconds; a file with more of them is to be split.
PAGE_SECONDS, MOST_READ = 90.0, 3000
_HEAD = struct.Struct(">QQ")
_SOURCE = Path(__file__).resolve().parents[3]


class KeptReadings(Protocol):
    """Where the lines of pages that were read off are kept, so that none is read twice."""

    def get(self, page: int) -> list[ReadLine] | None: ...
    def put(self, page: int, lines: Sequence[ReadLine]) -> None: ...


class BoundedReader:
    """Reads files in a process of its own; use it in a `with` block, from one thread."""

    def __init__(self, limits: Limits = LIMITS) -> None:
        self._limits = limits
        self._child: subprocess.Popen[bytes] | None = None

    def __enter__(self) -> "BoundedReader":
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        """End the process."""
        if self._child is not None:
            self._child.kill()
            self._child.communicate()
            self._child = None

    def documents(
        self,
        data: bytes,
        name: str,
        fields: Fields | None = None,
        kept: KeptReadings | None = None,
        progress: Progress | None = None,
    ) -> list[Document]:
        """Documents of one file, as `read_file` gives them; pages that are pictures are read one by one.

        Raises
        ------
        DocumentError
            With the reader's reason, or if the file goes beyond the limits.
        """
        chosen = fields.to_json() if fields else None
        order = {"do": READ, "name": name, "fields": chosen, "readings": {}}
        found, _ = self._ask(order, data, name)
        if "unread" in found:
            order["readings"] = self._readings(data, name, found["unread"], kept, progress or Silent())
            found, _ = self._ask(order, data, name)
        documents = [document_from_json(body) for body in found["documents"]]
        return [self._with_pictures(data, name, document) for document in documents]

    def _with_pictures(self, data: bytes, name: str, document: Document) -> Document:
        """The same document, whose pictures are drawn by this reader: all of them when the first is wanted."""
        if not document.pictures:
            return document
        all_drawn = cache(lambda: self.pictures(data, name, document.pictures))

        def one(place: int) -> bytes:
            drawn = all_drawn()[place]
            if drawn is None:
                raise DocumentError(f"{name}: picture {place + 1} cannot be drawn; it is broken")
            return drawn

        return replace(document, drawn=tuple(partial(one, place) for place in range(len(document.pictures))))

    def _readings(
        self, data: bytes, name: str, pages: Sequence[int], kept: KeptReadings | None, progress: Progress
    ) -> dict[str, Any]:
        if len(pages) > MOST_READ:
            raise DocumentError(f"{name}: {len(pages):,} scanned pages; at most {MOST_READ:,} are read, split it")
        progress.start(f"read scanned pages of {name}", len(pages), "pages")
        readings = {}
        for page in pages:
            lines = None if kept is None else kept.get(page)
            if lines is None:
                lines = self.words(data, name, page)
                if kept is not None:
                    kept.put(page, lines)
            readings[str(page)] = [line.to_json() for line in lines]
            progress.advance(1)
        return readings

    def words(self, data: bytes, name: str, page: int) -> list[ReadLine]:
        """The lines of a page that is a picture, read off."""
        found, _ = self._ask({"do": WORDS, "name": name, "page": page}, data, name, PAGE_SECONDS)
        return [ReadLine.from_json(line) for line in found["lines"]]

    def fields(self, data: bytes, name: str) -> list[dict[str, Any]]:
        """Fields of a tabular file with sample values."""
        found, _ = self._ask({"do": FIELDS, "name": name}, data, name)
        return list(found["fields"])

    def picture(self, data: bytes, name: str, page: int, width: int) -> bytes:
        """A page of a PDF as PNG, `width` pixels wide; pages count from 1."""
        _, picture = self._ask({"do": PAGE, "name": name, "page": page, "width": width}, data, name)
        return picture

    def lines(self, data: bytes, name: str, page: int) -> list[Line]:
        """The lines of the text of a page of a PDF, and where they stand; pages count from 1."""
        found, _ = self._ask({"do": LINES, "name": name, "page": page}, data, name)
        return [(text, tuple(place)) for text, place in found["lines"]]

    def pictures(self, data: bytes, name: str, pictures: Sequence[Picture]) -> list[bytes | None]:
        """The pictures of a document, each as PNG or JPEG; None where one cannot be drawn."""
        told = [one.to_json() for one in pictures]
        found, raw = self._ask({"do": PICTURES, "name": name, "pictures": told}, data, name)
        drawn, at = [], 0
        for size in found["sizes"]:
            drawn.append(raw[at : at + size] if size else None)
            at += size
        return drawn

    def _ask(
        self, order: Mapping[str, Any], data: bytes, name: str, seconds: float | None = None
    ) -> tuple[dict[str, Any], bytes]:
        seconds = self._limits.seconds_for(name, len(data)) if seconds is None else seconds
        until = time.monotonic() + seconds
        child = self._running()
        assert child.stdin is not None and child.stdout is not None
        try:
            _send(child.stdin, {**order, "seconds": seconds}, data)
            head = _HEAD.unpack(self._receive(child.stdout, _HEAD.size, until))
            body = json.loads(self._receive(child.stdout, head[0], until))
            raw = self._receive(child.stdout, head[1], until)
        except TimeoutError as error:
            self.close()
            raise DocumentError(f"{name}: took more than {seconds:.0f} s to read; split it") from error
        except (OSError, EOFError) as error:
            self.close()
            raise DocumentError(
                f"{name}: its reader broke down within {self._limits.memory >> 20:,} MiB of memory; "
                "the file is damaged or made to do harm"
            ) from error
        if "error" in body:
            if body.get("memory"):
                self.close()
                raise DocumentError(f"{name}: needs more than {self._limits.memory >> 20:,} MiB of memory to read")
            raise DocumentError(body["error"])
        return body, raw

    def _running(self) -> subprocess.Popen[bytes]:
        if self._child is None or self._child.poll() is not None:
            environment = os.environ | {
                "PYTHONPATH": str(_SOURCE),
                "OMP_NUM_THREADS": "1",
                "OPENBLAS_NUM_THREADS": "1",
            }
            self._child = subprocess.Popen(
                [sys.executable, "-m", "doppio.core.formats.bounded", str(self._limits.memory)],
                stdin=subprocess.PIPE,
                stdout=subprocess.PIPE,
                stderr=subprocess.DEVNULL,
                env=environment,
            )
        return self._child

    @staticmethod
    def _receive(stream: Any, size: int, until: float) -> bytes:
        parts = []
        with selectors.DefaultSelector() as waiting:
            waiting.register(stream, selectors.EVENT_READ)
            while size:
                left = until - time.monotonic()
                if left <= 0 or not waiting.select(left):
                    raise TimeoutError
                part = os.read(stream.fileno(), min(size, 1 << 20))
                if not part:
                    raise EOFError
                parts.append(part)
                size -= len(part)
        return b"".join(parts)


def document_to_json(document: Document) -> dict[str, Any]:
    """A document as plain JSON values; `document_from_json` gives the same one back."""
    return {
        "id": document.id,
        "title": document.title,
        "text": document.text,
        "blocks": [[block.kind, block.start, block.end, block.level] for block in document.blocks],
        "sections": [
            [s.number, s.title, s.level, s.start, s.end, s.parent, s.page, s.dropped] for s in document.sections
        ],
        "metadata": dict(document.metadata),
        "carried": dict(document.carried),
        "given": [list(pair) for pair in document.given],
        "pictures": [picture.to_json() for picture in document.pictures],
    }


def document_from_json(body: Mapping[str, Any]) -> Document:
    return Document(
        body["id"],
        body["title"],
        body["text"],
        tuple(Block(*block) for block in body["blocks"]),
        tuple(Section(*section) for section in body["sections"]),
        body["metadata"],
        body["carried"],
        tuple((given, kept) for given, kept in body["given"]),
        tuple(Picture.from_json(picture) for picture in body["pictures"]),
    )


def _send(stream: Any, body: Mapping[str, Any], raw: bytes = b"") -> None:
    text = json.dumps(body, ensure_ascii=False).encode("utf-8", "surrogatepass")
    stream.write(_HEAD.pack(len(text), len(raw)))
    stream.write(text)
    stream.write(raw)
    stream.flush()


def _obey(order: Mapping[str, Any], data: bytes) -> tuple[dict[str, Any], bytes]:
    from doppio.core.formats.documents import draw, read_file

    name = order["name"]
    if order["do"] == FIELDS:
        return {"fields": fields_seen(decode(data, name), name)}, b""
    if order["do"] == PICTURES:
        drawn = draw(data, name, [Picture.from_json(one) for one in order["pictures"]])
        return {"sizes": [len(one) for one in drawn]}, b"".join(drawn)
    if order["do"] == PAGE:
        from doppio.core.formats.pdf import draw_page

        return {}, _packed_page(draw_page(data, name, order["page"], order["width"]))
    if order["do"] == LINES:
        from doppio.core.formats.pdf_lines import page_lines

        return {"lines": page_lines(data, name, order["page"])}, b""
    if order["do"] == WORDS:
        from doppio.core.formats.page_reading import read_page, read_picture

        lines = read_page(data, name, order["page"]) if order["page"] else read_picture(data)
        return {"lines": [line.to_json() for line in lines]}, b""
    fields = Fields.from_json(order["fields"], name) if order["fields"] else None
    readings = {int(page): [ReadLine.from_json(line) for line in lines] for page, lines in order["readings"].items()}
    try:
        found = read_file(data, name, fields, readings)
    except Unread as unread:
        return {"unread": unread.pages}, b""
    return {"documents": [document_to_json(document) for document in found]}, b""


def _packed_page(picture: Image.Image) -> bytes:
    target = io.BytesIO()
    picture.convert("P", palette=Image.Palette.ADAPTIVE, colors=64).save(target, "PNG", optimize=True)
    return target.getvalue()


def _serve(memory: int, source: BinaryIO, target: BinaryIO) -> None:
    """Obey orders until there are no more; for what is in a file the memory of this process cannot grow by more than
    `memory` bytes. What reads it is imported before, and is not counted."""
    from doppio.core.formats.documents import import_readers, lacking

    _bound(memory)
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    while head := source.read(_HEAD.size):
        sizes = _HEAD.unpack(head)
        order = json.loads(source.read(sizes[0]))
        # Whoever asked may be gone by the time that it takes too long.
        signal.setitimer(signal.ITIMER_REAL, order["seconds"] + GRACE)
        answer: dict[str, Any] = {}
        raw = b""
        if missing := lacking(order["name"]):
            resource.setrlimit(resource.RLIMIT_AS, (resource.RLIM_INFINITY, resource.RLIM_INFINITY))
            import_readers(missing)
            _bound(memory)
        try:
            answer, raw = _obey(order, source.read(sizes[1]))
        except DocumentError as error:
            answer = {"error": str(error)}
        except MemoryError:
            answer = {"error": "memory", "memory": True}
        except RecursionError:
            answer = {"error": f"{order['name']}: nested too deeply to be read"}
        except Exception as error:
            answer = {"error": f"{order['name']}: cannot be read ({type(error).__name__}: {error})"}
        signal.setitimer(signal.ITIMER_REAL, 0)
        _send(target, answer, raw)


def _bound(memory: int) -> None:
    """From here on this process grows by so many bytes at most."""
    used = int(Path("/proc/self/statm").read_text().split()[0]) * resource.getpagesize()
    resource.setrlimit(resource.RLIMIT_AS, (used + memory, resource.RLIM_INFINITY))


if __name__ == "__main__":
    # What a parser prints must not stand among the answers.
    answers = os.fdopen(os.dup(1), "wb")
    os.dup2(2, 1)
    _serve(int(sys.argv[1]), os.fdopen(0, "rb"), answers)
