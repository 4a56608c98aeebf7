"""Damaged and random files of every format: each is read or refused by name, and what is read of it can be kept."""

import io
import json
import os
import unittest
import zipfile

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from doppio.core.errors import DocumentError
from doppio.core.formats.archive import members
from doppio.core.formats.bounded import BoundedReader
from doppio.core.formats.documents import KNOWN
from doppio.core.formats.records import Fields
from tests.core.made_files import RED, make_docx, make_pdf, make_picture

EXAMPLES = int(os.environ.get("DOPPIO_FUZZ", 10))
HTML = (
    b"<html><head><title>Wind</title><meta name=keywords content='a,b'></head><body><main><h1>Wind</h1><p>18 m/s<ul>"
    b"<li>orange<ul><li>slow</ul></ul><table><tr><th>a</th></tr><tr><td>b</td></tr></table></main>"
)
SAMPLES = {
    ".md": b"# Wind\n\nThe gondola stops.\n\n- orange: slow\n  1. then red\n\n"
    b"| a | b |\n|---|---|\n| 1 | 2 |\n\n```\nx\n```\n",
    ".html": HTML,
    ".htm": HTML,
    ".txt": b"1 WIND\n\nThe gondola stops at 18 metres\na second.\n\n2 DOGS\n\n- a ticket\n",
    ".csv": b'nr,fault,"what to do"\nE-417,"tension, carriage",stop\nE-418,,"a ""b"""\n',
    ".jsonl": b'{"id": "a", "text": "rope", "metadata": {"n": 1, "d": "2026-02-17"}, "carried": {"u": "x"}}\n'
    b'{"id":"b","text":"ice"}\n',
    ".docx": make_docx([("Heading 1", "Staff"), ("Normal", "A day begins at six.")]),
    ".pdf": make_pdf([["Fog rules", "In fog the line is slowed to four metres a second."]]),
}
SAMPLES[".markdown"] = SAMPLES[".md"]
SAMPLES |= {
    ".png": make_picture(RED, (40, 40)),
    ".jpg": make_picture(RED, (40, 40), "JPEG"),
    ".webp": make_picture(RED, (40, 40), "WEBP"),
    ".svg": b'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 40 40"><title>Tower</title><desc>A mast</desc>'
    b'<rect width="9" height="30" fill="url(#a)"/><image href="data:image/png;base64,AA=="/></svg>',
}
SAMPLES[".jpeg"] = SAMPLES[".jpg"]
PIECES = st.one_of(
    st.binary(max_size=8), st.sampled_from([b"\0", b"\xff\xfe", b"<", b"%PDF", b"[" * 300, b'"', b"\r", b"&#x0;"])
)
CHANGES = st.lists(st.tuples(st.floats(0, 1), st.integers(0, 12), PIECES), min_size=1, max_size=6)


def changed(data, changes):
    """Bytes with some of them taken out and others put in."""
    for share, out, put in changes:
        place = int(share * len(data))
        data = data[:place] + put + data[place + out :]
    return data


class Readers(unittest.TestCase):
    read = 0

    def quick(self):
        return settings(max_examples=EXAMPLES, deadline=None, database=None, suppress_health_check=list(HealthCheck))

    def kept(self, documents):
        for document in documents:
            told = json.dumps(
                [document.id, document.title, document.text, dict(document.metadata), dict(document.carried)],
                ensure_ascii=False,
                allow_nan=False,
            )
            told.encode()
            self.assertNotIn("\0", document.text)
            for block in document.blocks:
                self.assertTrue(0 <= block.start <= block.end <= len(document.text))

    def test_every_known_ending_has_a_sample(self):
        self.assertEqual(set(SAMPLES), set(KNOWN))

    def test_damaged_files_are_read_or_refused_by_name(self):
        with BoundedReader() as reader:
            for ending in SAMPLES:
                with self.subTest(ending):
                    self.reads(reader, ending)

    def reads(self, reader, ending):
        name = f"odd{ending}"
        fields = Fields(("fault",), (), "", "nr") if ending == ".csv" else None

        @self.quick()
        @given(CHANGES, st.booleans())
        def read(changes, rows):
            Readers.read += 1
            try:
                self.kept(reader.documents(changed(SAMPLES[ending], changes), name, fields if rows else None))
            except DocumentError as refused:
                self.assertIn(name, str(refused))
                self.assertNotIn("broke down", str(refused))

        read()

    def test_damaged_archives_are_opened_or_refused_by_name(self):
        target = io.BytesIO()
        with zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED) as archive:
            for ending in (".md", ".csv", ".pdf"):
                archive.writestr(f"folder/a{ending}", SAMPLES[ending])
        whole = target.getvalue()

        @self.quick()
        @given(CHANGES)
        def opened(changes):
            Readers.read += 1
            try:
                for name, content in members(changed(whole, changes), "odd.zip"):
                    self.assertIsInstance(content, bytes | DocumentError, name)
            except DocumentError as refused:
                self.assertIn("odd.zip", str(refused))

        opened()

    @classmethod
    def tearDownClass(cls):
        if "DOPPIO_FUZZ" in os.environ:
            print(f"{cls.read:,} damaged files")
