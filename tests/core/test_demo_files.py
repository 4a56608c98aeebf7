"""The demo's PDF and DOCX files, made elsewhere, say what their sources say; and how sections are found in them."""

import json
import re
import runpy
import unittest
from difflib import SequenceMatcher

import yaml

from doppio.core.formats.documents import SOURCES, read_documents, read_file, read_sources
from doppio.core.formats.markdown import read_markdown
from doppio.core.text.document import HEADING, PAGE, ROW
from doppio.core.text.outline import doubts
from tests.core.corpus import ROOT

DEMO = ROOT / "demo"


def words(text):
    return re.findall(r"[\w/.:'-]+", text)


class MadeFiles(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.pairs = []
        for path in sorted((DEMO / "make" / "sources").glob("*.md")):
            _, head, body = path.read_text(encoding="utf-8").split("---\n", 2)
            name = yaml.safe_load(head)["file"]
            cls.pairs.append(
                (name, read_markdown(body, name), read_file((DEMO / "documents" / name).read_bytes(), name)[0])
            )

    def test_there_are_files_of_both_kinds(self):
        endings = [name.rsplit(".", 1)[-1] for name, _, _ in self.pairs]
        self.assertGreaterEqual(endings.count("pdf"), 4)
        self.assertGreaterEqual(endings.count("docx"), 3)

    def test_every_word_stands_where_it_did(self):
        for name, source, found in self.pairs:
            with self.subTest(name):
                wanted, got = words(source.text), words(found.text)
                alike = SequenceMatcher(None, wanted, got, autojunk=False).ratio()
                self.assertGreater(alike, 0.995)

    def test_headings_have_their_level_number_and_parent(self):
        for name, source, found in self.pairs:
            with self.subTest(name):
                self.assertEqual(
                    [(s.level, s.number, s.title, s.parent) for s in found.sections],
                    [(s.level, s.number, s.title, s.parent) for s in source.sections],
                )

    def test_tables_have_the_same_rows(self):
        for name, source, found in self.pairs:
            with self.subTest(name):
                rows = [[d.text[b.start : b.end] for b in d.blocks if b.kind == ROW] for d in (source, found)]
                self.assertEqual(rows[1], rows[0])

    def test_blocks_are_in_order_and_pages_rise(self):
        for name, _, found in self.pairs:
            with self.subTest(name):
                reached = 0
                for block in found.blocks:
                    self.assertGreaterEqual(block.start, reached)
                    reached = block.end
                pages = [block.level for block in found.blocks if block.kind == PAGE]
                self.assertEqual(pages, sorted(set(pages)))
                if name.endswith(".pdf"):
                    self.assertTrue(all(section.page >= 1 for section in found.sections))

    def test_running_heads_are_gone(self):
        for name, _, found in self.pairs:
            with self.subTest(name):
                self.assertNotRegex(found.text, r"Page \d+ of \d+")

    def test_the_tickets_are_what_the_script_writes(self):
        rows = runpy.run_path(str(DEMO / "make" / "tickets.py"))["ROWS"].split("\n")
        kept = (DEMO / "documents" / "logs" / "fault-tickets.jsonl").read_text().splitlines()
        self.assertEqual([json.loads(line)["ticket"] for line in kept], [row.split("|")[0] for row in rows])


class WholeDemo(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.corpus = read_documents(DEMO / "documents")

    def test_sections_of_the_demo_raise_no_doubt(self):
        found = [
            (document.id, document.sections[doubt.section].heading, doubt.reason)
            for document in self.corpus
            for doubt in doubts(document.text, document.blocks, document.sections)
        ]
        self.assertEqual(found, [])

    def test_fields_of_the_tickets_are_used_as_the_sources_file_says(self):
        path = DEMO / "documents" / SOURCES
        fields = read_sources(path.read_bytes(), SOURCES)["logs/fault-tickets.jsonl"]
        tickets = [document for document in self.corpus if document.id.startswith("logs/fault-tickets")]
        self.assertGreater(len(tickets), 60)
        for ticket in tickets:
            self.assertTrue(set(ticket.carried) <= set(fields.carried))
            self.assertNotIn("title", ticket.metadata)
            self.assertIn("minutes_stopped", ticket.metadata)

    def test_offsets_of_blocks_and_sections_hold(self):
        for document in self.corpus:
            starts = {block.start for block in document.blocks if block.kind == HEADING}
            self.assertEqual({section.start for section in document.sections}, starts)
            for block in document.blocks:
                piece = document.text[block.start : block.end]
                self.assertEqual(piece, piece.strip() if block.kind != "code" else piece.rstrip())
                self.assertEqual(bool(piece), block.kind != PAGE)


class Bench(unittest.TestCase):
    def test_documents_made_longer_keep_their_blocks_in_place(self):
        bench = runpy.run_path(str(ROOT / "bench" / "chunking.py"))
        document = read_file(b"# Wind\n\nThe line stops.\n\n- one\n- two", "a.md")[0]
        longer = bench["longer"]([document])[0]
        self.assertGreater(len(longer.text), 50_000)
        kinds = [block.kind for block in document.blocks]
        for place, block in enumerate(longer.blocks):
            self.assertEqual(block.kind, kinds[place % len(kinds)])
            original = document.blocks[place % len(kinds)]
            self.assertEqual(longer.text[block.start : block.end], document.text[original.start : original.end])

    def test_a_measure_is_a_rate_and_a_ratio(self):
        bench = runpy.run_path(str(ROOT / "bench" / "chunking.py"))
        document = read_file(b"word " * 4000, "a.txt")[0]
        slow = bench["measure"]([document], 0.02, lambda one: sum(ord(sign) for sign in one.text))
        quick = bench["measure"]([document], 0.02, lambda one: len(one.text))
        self.assertGreater(slow["ratio"], quick["ratio"])
        self.assertGreater(quick["rate"], slow["rate"])
