"""PDF, DOCX, archives, tables, metadata and outlines: what becomes of them, and what is refused."""

import io
import json
import tempfile
import unittest
import zipfile
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

from doppio.core.errors import DocumentError
from doppio.core.formats.archive import Limits, members
from doppio.core.formats.bounded import BoundedReader, document_from_json, document_to_json
from doppio.core.formats.documents import SOURCES, read_documents, read_file
from doppio.core.formats.pdf import read_pdf
from doppio.core.formats.records import Fields, fields_seen, read_rows
from doppio.core.text.document import CAPTION, HEADING, ITEM, PAGE, PARAGRAPH, ROW, DocumentBuilder
from doppio.core.text.metadata import kind_of, typed
from doppio.core.text.outline import DROP, JOIN, LEVEL, SPLIT, TITLE, Correction, corrected, doubts
from tests.core.made_files import make_docx, make_pdf


def blocks(document):
    return [(block.kind, document.text[block.start : block.end]) for block in document.blocks if block.kind != PAGE]


def outline(document):
    return [(section.level, section.number, section.title) for section in document.sections]


def zipped(files):
    target = io.BytesIO()
    with zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in files.items():
            archive.writestr(name, data)
    return target.getvalue()


class Pdf(unittest.TestCase):
    def page(self, number, *lines):
        head = ("Wind rules RU-7", 8, False, 72, 810)
        foot = (f"Page {number} of 3", 8, False, 480, 30)
        return [head, *lines, foot]

    def document(self):
        return read_pdf(
            make_pdf(
                [
                    self.page(
                        1,
                        ("Wind and ice", 20, True, 72, 760),
                        ("1 Wind", 14, True, 72, 720),
                        ("1.1 Stages", 11.5, True, 72, 690),
                        ("The display knows three colours, and red means that the ope-", 11, False, 72, 670),
                        ("ration ceases. Gusts count for all lines of the company, and", 11, False, 72, 656),
                    ),
                    self.page(
                        2,
                        ("they count at once.", 11, False, 72, 760),
                        ("1.2 Reopening", 11.5, True, 72, 720),
                        ("After 20 minutes of calm the line reopens, and not before then.", 11, False, 72, 700),
                        ("- Look at the towers.", 11, False, 72, 670),
                        ("- Call the duty manager.", 11, False, 72, 656),
                    ),
                    self.page(
                        3,
                        ("2 Ice", 14, True, 72, 760),
                        ("Salt is never put on a rope, and neither is hot water on any day.", 11, False, 72, 740),
                        ("Table 1: Limits", 11, False, 72, 700),
                        *self.ruled([("Line", "Red"), ("A", "20 m/s"), ("B", "18 m/s")], 680),
                    ),
                ]
            ),
            "wind.pdf",
        )

    @staticmethod
    def ruled(rows, top):
        drawn = []
        for place in range(len(rows) + 1):
            drawn.append(("rule", 72, top - 18 * place, 272, top - 18 * place))
        for x in (72, 172, 272):
            drawn.append(("rule", x, top - 18 * len(rows), x, top))
        for place, cells in enumerate(rows):
            for column, text in enumerate(cells):
                drawn.append((text, 10, False, 78 + 100 * column, top - 13 - 18 * place))
        return drawn

    def test_sections_come_from_size_and_numbers_with_their_pages(self):
        document = self.document()
        self.assertEqual(
            [(s.level, s.heading, s.page, s.parent) for s in document.sections],
            [(1, "Wind and ice", 1, -1), (2, "1 Wind", 1, 0), (3, "1.1 Stages", 1, 1), (3, "1.2 Reopening", 2, 1),
             (2, "2 Ice", 3, 0)],
        )  # fmt: skip

    def test_repeated_heads_and_feet_are_left_out(self):
        text = self.document().text
        self.assertNotIn("RU-7", text)
        self.assertNotIn("Page", text)

    def test_paragraphs_go_on_over_lines_and_pages_and_hyphens_are_joined(self):
        paragraph = next(text for kind, text in blocks(self.document()) if kind == PARAGRAPH)
        self.assertEqual(
            paragraph,
            "The display knows three colours, and red means that the operation ceases. Gusts count for all lines of "
            "the company, and they count at once.",
        )

    def test_lists_captions_and_ruled_tables_are_known(self):
        found = blocks(self.document())
        self.assertEqual([text for kind, text in found if kind == ITEM],
                         ["- Look at the towers.", "- Call the duty manager."])  # fmt: skip
        self.assertIn((CAPTION, "Table 1: Limits"), found)
        self.assertEqual([text for kind, text in found if kind == ROW],
                         ["Line: A; Red: 20 m/s", "Line: B; Red: 18 m/s"])  # fmt: skip

    def test_a_page_begins_where_its_first_block_does(self):
        document = self.document()
        pages = {block.level: block.start for block in document.blocks if block.kind == PAGE}
        self.assertEqual(sorted(pages), [1, 2, 3])
        self.assertTrue(document.text[pages[3] :].startswith("2 Ice"))

    def test_reasons_for_refusal(self):
        for data, reason in {
            make_pdf([[]], picture=True): "scanned, and no words could be read on its 1 pages",
            make_pdf([[]]): "holds no text",
            make_pdf([["x"]], encrypt=True): "encrypted",
            b"%PDF-1.4 torn": "a broken PDF",
        }.items():
            with self.assertRaisesRegex(DocumentError, f"a.pdf: {reason}"):
                read_pdf(data, "a.pdf", lambda page: [])


class Docx(unittest.TestCase):
    def test_styles_lists_tables_and_captions(self):
        data = make_docx(
            [("Title", "Handbook"), ("Heading 1", "Wind"), ("Normal", "It blows."), ("List Bullet", "Look up"),
             ("List Number", "Stop"), ("List Number", "Call"), ("Heading 2", "Gusts"),
             ("Caption", "Figure 1: Gauge")],
            [[("Line", "Red"), ("A", "20")]],
        )  # fmt: skip
        document = read_file(data, "a.docx")[0]
        self.assertEqual(outline(document), [(1, "", "Handbook"), (2, "", "Wind"), (3, "", "Gusts")])
        self.assertEqual(
            blocks(document)[2:],
            [(PARAGRAPH, "It blows."), (ITEM, "- Look up"), (ITEM, "1. Stop"), (ITEM, "2. Call"), (HEADING, "Gusts"),
             (CAPTION, "Figure 1: Gauge"), (ROW, "Line: A; Red: 20")],
        )  # fmt: skip

    def test_deleted_text_is_left_out_and_entities_are_not_followed(self):
        plain = make_docx([("Normal", "kept SECRET")])
        source = zipfile.ZipFile(io.BytesIO(plain))
        files = {name: source.read(name) for name in source.namelist()}
        body = files["word/document.xml"].decode()
        gone = '<w:del w:id="1"><w:r><w:delText>gone</w:delText></w:r></w:del>'
        body = body.replace("kept SECRET", f"kept</w:t></w:r>{gone}"
                            "<w:r><w:t> &who;")  # fmt: skip
        head, rest = body.split("?>", 1)
        files["word/document.xml"] = (
            head + '?><!DOCTYPE x [<!ENTITY who SYSTEM "file:///etc/passwd">]>' + rest
        ).encode()
        try:
            text = read_file(zipped(files), "a.docx")[0].text
        except DocumentError:
            return
        self.assertNotIn("gone", text)
        self.assertNotIn("root:", text)

    def test_reasons_for_refusal(self):
        for data, reason in {
            b"\xd0\xcf\x11\xe0" + bytes(600): "encrypted, or in the old binary format",
            b"PK nothing": "a broken archive",
            zipped({"word/other.xml": "<x/>"}): "not a DOCX file",
        }.items():
            with self.assertRaisesRegex(DocumentError, f"a.docx: {reason}"):
                read_file(data, "a.docx")


class Archives(unittest.TestCase):
    def found(self, files, **limits):
        return dict(members(zipped(files), "pack.zip", Limits(**limits) if limits else Limits()))

    def test_files_are_named_by_their_place_and_hidden_ones_passed_over(self):
        found = self.found({"a/b.md": b"# B", "__MACOSX/x": b"1", ".hidden/c.md": b"2"})
        self.assertEqual(found, {"pack/a/b.md": b"# B"})

    def test_nested_archives_and_paths_that_leave_are_refused_alone(self):
        found = self.found({"in.zip": b"PK", "../up.md": b"1", "/root.md": b"2", "fine.md": b"3"})
        self.assertEqual(found.pop("pack/fine.md"), b"3")
        self.assertEqual(len(found), 3)
        self.assertTrue(all(isinstance(reason, DocumentError) for reason in found.values()))

    def test_an_archive_that_swells_is_refused_before_it_is_read(self):
        with self.assertRaisesRegex(DocumentError, "swells to"):
            self.found({"zeros.txt": bytes(40 << 20)})
        with self.assertRaisesRegex(DocumentError, "more than the 1 MiB"):
            self.found({f"{n}.txt": bytes(range(256)) * 2000 for n in range(3)}, archive_bytes=1 << 20)

    def test_a_locked_file_is_named(self):
        data = bytearray(zipped({"a.md": b"# A"}))
        for mark in (b"PK\x03\x04", b"PK\x01\x02"):
            at = data.index(mark) + (6 if mark[2] == 3 else 8)
            data[at] |= 1
        reason = dict(members(bytes(data), "pack.zip"))["pack/a.md"]
        self.assertIn("encrypted", str(reason))

    def test_a_zip_is_read_as_a_folder_is(self):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "pack.zip"
            path.write_bytes(zipped({"a.md": "# A\n\nText.", "b.txt": "Other."}))
            self.assertEqual([document.id for document in read_documents(path)], ["pack/a.md", "pack/b.txt"])


class Bounds(unittest.TestCase):
    def test_the_process_gives_the_same_documents(self):
        files = {"a.md": b"---\nowner: workshop\n---\n# A\n\nText.", "b.pdf": make_pdf([["Some text in a line."]])}
        with BoundedReader() as reader:
            for name, data in files.items():
                self.assertEqual(reader.documents(data, name), read_file(data, name))

    def test_what_takes_too_long_is_ended_and_the_next_file_is_read(self):
        deep = b"[" * 200_000 + b"]" * 200_000
        with (
            BoundedReader(Limits(seconds=0.0)) as reader,
            self.assertRaisesRegex(DocumentError, "took more than 0 s"),
        ):
            reader.documents(deep, "deep.md")
        with BoundedReader(Limits(seconds=60)) as reader:
            self.assertEqual(len(reader.documents(b"# A\n\nb", "a.md")), 1)

    def test_what_needs_too_much_memory_is_refused_and_the_next_file_is_read(self):
        with BoundedReader(Limits(memory=96 << 20)) as reader:
            with self.assertRaisesRegex(DocumentError, "96 MiB of memory"):
                reader.documents(b"word " * (24 << 20), "large.txt")
            self.assertEqual(len(reader.documents(b"# A\n\nb", "a.md")), 1)

    def test_a_page_is_drawn(self):
        with BoundedReader() as reader:
            self.assertEqual(reader.picture(make_pdf([["x"]]), "a.pdf", 1, 200)[:4], b"\x89PNG")
            with self.assertRaisesRegex(DocumentError, "page 2 is not between 1 and 1"):
                reader.picture(make_pdf([["x"]]), "a.pdf", 2, 200)

    def test_documents_survive_the_way_between_processes(self):
        builder = DocumentBuilder()
        builder.page(1)
        builder.add(HEADING, "1 Wind 🚡", 1)
        builder.add(PARAGRAPH, "Text é.")
        document = builder.build("d", None, {"n": 1, "tags": ["a"]}, {"fix": "x"})
        again = document_from_json(json.loads(json.dumps(document_to_json(document))))
        self.assertEqual(again, document)
        self.assertEqual(again.digest, document.digest)


class Rows(unittest.TestCase):
    CSV = "nr,fault,fix,minutes\n7,Door jams,Clean the rail,12\n8,Lamp dark,,0\n"

    def test_a_row_is_a_document_with_matched_and_carried_fields(self):
        fields = Fields(("fault",), ("fix",), "fault", "nr")
        found = read_rows(self.CSV, "logs/faults.csv", fields)
        self.assertEqual([(d.id, d.title, d.text) for d in found],
                         [("logs/faults.csv#7", "Door jams", "Door jams"),
                          ("logs/faults.csv#8", "Lamp dark", "Lamp dark")])  # fmt: skip
        self.assertEqual(dict(found[0].carried), {"fix": "Clean the rail"})
        self.assertEqual((dict(found[0].metadata), dict(found[1].carried)), ({"minutes": 12}, {}))

    def test_several_matched_fields_are_paragraphs_with_their_names(self):
        found = read_rows(self.CSV, "f.csv", Fields(("fault", "fix")))
        self.assertEqual(found[0].text, "fault: Door jams\n\nfix: Clean the rail")
        self.assertEqual(found[1].text, "fault: Lamp dark")

    def test_fields_are_shown_with_samples(self):
        seen = fields_seen(self.CSV, "f.csv")
        self.assertEqual(seen[0], {"name": "nr", "samples": ["7", "8"]})

    def test_mistakes_name_the_line(self):
        for fields, reason in {
            Fields(("fault",), (), "", "minutes2"): "line 2: minutes2: empty",
            Fields(("nothing",)): "no row has the field 'nothing'; there are nr, fault, fix, minutes",
        }.items():
            with self.assertRaisesRegex(DocumentError, reason):
                read_rows(self.CSV, "f.csv", fields)
        with self.assertRaisesRegex(DocumentError, "f.jsonl, line 2: not JSON"):
            read_rows('{"a": "x"}\n{oops', "f.jsonl", Fields(("a",)))

    def test_a_sources_file_chooses_fields_in_a_folder(self):
        with tempfile.TemporaryDirectory() as place:
            folder = Path(place)
            (folder / "f.csv").write_text(self.CSV)
            body = {"format": "doppio-sources/1", "files": {"f.csv": {"matched": ["fault"], "id": "nr"}}}
            (folder / SOURCES).write_text(json.dumps(body))
            self.assertEqual([d.id for d in read_documents(folder)], ["f.csv#7", "f.csv#8"])
            (folder / SOURCES).write_text(json.dumps({**body, "files": {"f.csv": {"match": ["fault"]}}}))
            with self.assertRaisesRegex(DocumentError, "files.f.csv.match: unknown key; allowed are carried"):
                read_documents(folder)


class Metadata(unittest.TestCase):
    def test_values_get_their_types(self):
        found = typed({"a": "2025-11-01", "b": "12.5", "c": "007", "d": ["x", 1], "e": "", "f": True, "g": "words"})
        self.assertEqual(found, {"a": "2025-11-01", "b": 12.5, "c": "007", "d": ["x", "1"], "f": "yes", "g": "words"})
        self.assertEqual([kind_of(value) for value in found.values()],
                         ["date", "number", "text", "list", "text", "text"])  # fmt: skip

    def test_markdown_html_and_json_lines_carry_it(self):
        markdown = read_file(
            b"---\ntitle: Wind rules\nedition: 7\nlines: [A, B]\nfrom: 2025-11-01\n---\n# One\n\nx", "a.md"
        )[0]
        self.assertEqual((markdown.title, dict(markdown.metadata)),
                         ("Wind rules", {"edition": 7, "lines": ["A", "B"], "from": "2025-11-01"}))  # fmt: skip
        html = read_file(b'<meta name="owner" content="desk"><meta name="viewport" content="x"><p>text', "a.html")[0]
        self.assertEqual(dict(html.metadata), {"owner": "desk"})
        lines = read_file(
            b'{"id": "1", "text": "x", "metadata": {"year": 2026}, "carried": {"fix": "y"}}', "a.jsonl"
        )[0]
        self.assertEqual(
            (lines.id, dict(lines.metadata), dict(lines.carried)), ("a.jsonl#1", {"year": 2026}, {"fix": "y"})
        )

    def test_a_wrong_block_at_the_top_is_named(self):
        with self.assertRaisesRegex(DocumentError, "a.md, line 2: the block between"):
            read_file(b"---\na: [1\n---\ntext", "a.md")


class Outlines(unittest.TestCase):
    def document(self, *headings):
        builder = DocumentBuilder()
        for level, heading, *text in headings:
            builder.add(HEADING, heading, level)
            for line in text:
                builder.add(PARAGRAPH, line)
        return builder.build("d")

    def wrong(self, *headings):
        document = self.document(*headings)
        return [(document.sections[doubt.section].title, doubt.reason)
                for doubt in doubts(document.text, document.blocks, document.sections)]  # fmt: skip

    def test_sound_outlines_raise_no_doubt(self):
        self.assertEqual(
            self.wrong(
                (1, "Rules"), (2, "1 Wind", "x"), (3, "1.1 Gusts", "x"), (2, "2 Ice", "x"), (2, "A.1 Forms", "x")
            ),
            [],
        )

    def test_doubtful_headings_are_pointed_out_with_the_reason(self):
        self.assertEqual(
            self.wrong((1, "Rules", "x"), (2, "1 Wind", "x"), (2, "3 Ice", "x"), (4, "Deep", "x"), (2, "4 Empty")),
            [("Ice", "number 3 follows 1"), ("Deep", "level 4 stands directly below level 2"),
             ("Empty", "no text stands below it")],
        )  # fmt: skip
        self.assertEqual(self.wrong((2, "2 Wind", "x"), (3, "3.1 Gusts", "x"))[0][1],
                         "number 3.1 does not continue 2, the section around it")  # fmt: skip

    def test_corrections_apply_and_survive_a_new_version(self):
        before = self.document((1, "Rules", "a"), (2, "1 Wind", "b"), (3, "Note", "c"), (2, "2 Ice", "d Snow. e"))
        made = [
            Correction("1 Wind", 1, TITLE, "1 Wind and gusts"),
            Correction("Note", 1, JOIN),
            Correction("2 Ice", 1, LEVEL, 1),
            Correction("d Snow.", 1, SPLIT, 2),
        ]
        after = self.document(
            (1, "Rules", "a new line", "a"), (2, "1 Wind", "b"), (3, "Note", "c"), (2, "2 Ice", "d Snow. e")
        )
        for document in (before, after):
            blocks_now, sections, unmatched = corrected(document.text, document.blocks, made)
            self.assertEqual(unmatched, [])
            self.assertEqual([(s.level, s.heading) for s in sections],
                             [(1, "Rules"), (2, "1 Wind and gusts"), (1, "2 Ice"), (2, "d Snow.")])  # fmt: skip
            self.assertEqual(document.text[blocks_now[-1].start : blocks_now[-1].end], "e")

    def test_a_dropped_section_takes_those_within_it_along(self):
        document = self.document((1, "Rules", "a"), (2, "Contents", "b"), (3, "More", "c"), (2, "Wind", "d"))
        _, sections, _ = corrected(document.text, document.blocks, [Correction("Contents", 1, DROP)])
        self.assertEqual([section.dropped for section in sections], [False, True, True, False])

    def test_the_same_heading_twice_is_told_apart_and_a_lost_one_is_reported(self):
        document = self.document((1, "Note", "a"), (1, "Note", "b"))
        gone = Correction("Elsewhere", 1, LEVEL, 2)
        _, sections, unmatched = corrected(document.text, document.blocks, [Correction("Note", 2, LEVEL, 3), gone])
        self.assertEqual([section.level for section in sections], [1, 3])
        self.assertEqual(unmatched, [gone])

    def test_what_comes_from_outside_is_checked(self):
        for body, reason in (
            ({"heading": "", "action": "join"}, "heading"),
            ({"heading": "x", "action": "erase"}, "action: 'erase' is not one of title, level"),
            ({"heading": "x", "action": "level", "value": 12}, "value: 12 is not a level between 1 and 9"),
            ({"heading": "x", "action": "title", "value": " "}, "value: a title"),
        ):
            with self.assertRaisesRegex(DocumentError, reason):
                Correction.from_json(body)

    @settings(max_examples=60)
    @given(st.lists(st.tuples(st.integers(1, 6), st.text("abc ", min_size=1, max_size=6)), max_size=12))
    def test_sections_nest(self, headings):
        document = self.document(*[(level, f"h{text}", "x") for level, text in headings])
        for section in document.sections:
            if section.parent >= 0:
                parent = document.sections[section.parent]
                self.assertLess(parent.level, section.level)
                self.assertTrue(parent.start < section.start and parent.end >= section.end)
