import json
import tempfile
import unittest
from pathlib import Path

import regex
from hypothesis import given
from hypothesis import strategies as st

from doppio.core.errors import DocumentError, QuestionError
from doppio.core.formats.documents import read_documents, read_file
from doppio.core.formats.questions import read_questions
from doppio.core.measure.questions import wording_groups
from doppio.core.text.canonical import canonical, decode
from doppio.core.text.document import PAGE
from doppio.core.text.quotes import find_quote
from tests.core.corpus import documents

MARKDOWN = """# Wind *rules*

Intro with `E-417` and a [link](http://x.example).

## 2.1 Limits

| Line | Red |
|---|---|
| A | 20 m/s |
| B |  |

- first
- second
  wrapped

3. third

```
code  line
```
"""


def read_document(data, name):
    return read_file(data, name)[0]


class Reading(unittest.TestCase):
    def kinds(self, document):
        return [(block.kind, document.text[block.start : block.end]) for block in document.blocks]

    def test_markdown_becomes_what_a_reader_sees(self):
        document = read_document(MARKDOWN.encode(), "wind.md")
        self.assertEqual(document.title, "Wind rules")
        self.assertEqual(
            self.kinds(document),
            [
                ("heading", "Wind rules"),
                ("paragraph", "Intro with E-417 and a link."),
                ("heading", "2.1 Limits"),
                ("row", "Line: A; Red: 20 m/s"),
                ("row", "Line: B"),
                ("item", "- first"),
                ("item", "- second wrapped"),
                ("item", "3. third"),
                ("code", "code  line"),
            ],
        )
        self.assertEqual(document.section_path(1), ("Wind rules", "2.1 Limits"))
        self.assertEqual((document.sections[1].number, document.sections[1].parent), ("2.1", 0))

    def test_html_shows_no_active_content_and_keeps_tables(self):
        page = """<html><head><title>T</title><script>bad()</script></head><body><nav>Home</nav><main>
        <h1>Dogs</h1>Loose <b>text</b><p>Para<br>graph</p><style>x{}</style>
        <table><tr><th>Ticket</th><th>Adult</th></tr><tr><td>Day</td><td>62</td></tr></table>
        <ul><li>one<ul><li>inner</li></ul></li></ul></main><footer>F</footer></body></html>"""
        self.assertEqual(
            self.kinds(read_document(page.encode(), "dogs.html")),
            [
                ("heading", "Dogs"),
                ("paragraph", "Loose text"),
                ("paragraph", "Para graph"),
                ("row", "Ticket: Day; Adult: 62"),
                ("item", "- one"),
                ("item", "- inner"),
            ],
        )

    def test_plain_text_headings_are_found_and_all_else_stays_as_it_is(self):
        text = "TITLE\n=====\n\n1 When\n \nA line\nthat  wraps.\n\n- item\n  wrapped\n- other\n\n\nNOTICES\n\nEnd."
        self.assertEqual(read_document(text.encode(), "a.txt").text, text)
        self.assertEqual(
            self.kinds(read_document(text.encode(), "a.txt")),
            [
                ("heading", "TITLE"),
                ("heading", "1 When"),
                ("paragraph", "A line\nthat  wraps."),
                ("item", "- item\n  wrapped"),
                ("item", "- other"),
                ("heading", "NOTICES"),
                ("paragraph", "End."),
            ],
        )

    def test_csv_rows_carry_their_column_names(self):
        document = read_document(b'Code;Meaning\r\nE-417;"Tension; carriage"\r\nE-1;\r\n', "alarm-codes.csv")
        self.assertEqual(document.title, "Alarm codes")
        self.assertEqual(document.text, "Alarm codes\n\nCode: E-417; Meaning: Tension; carriage\nCode: E-1")

    def test_a_csv_row_that_is_too_long_names_its_line(self):
        with self.assertRaisesRegex(DocumentError, "a.csv, line 3: 3 fields, but the header names 2"):
            read_document(b"a,b\n1,2\n1,2,3\n", "a.csv")

    def test_bytes_that_are_not_utf8_name_file_line_and_byte(self):
        with self.assertRaisesRegex(DocumentError, "a.txt, line 2: byte 0xe9 is not UTF-8; save the file as UTF-8"):
            read_document(b"one\ncaf\xe9", "a.txt")

    def test_byte_order_marks_are_understood(self):
        for encoding in ("utf-8-sig", "utf-16", "utf-32"):
            self.assertEqual(canonical(decode("Seil ä".encode(encoding), "x")), "Seil ä")

    def test_unknown_endings_and_empty_files_are_refused(self):
        for data, name, message in ((b"x", "a.exe", "unknown ending '.exe'"), (b" \n", "a.txt", "holds no text")):
            with self.assertRaisesRegex(DocumentError, message):
                read_document(data, name)

    @given(st.text(max_size=200), st.sampled_from([".md", ".html", ".txt"]))
    def test_blocks_are_ordered_ranges_of_canonical_text(self, text, ending):
        try:
            document = read_document(text.encode("utf-8", "ignore"), "a" + ending)
        except DocumentError:
            return
        self.assertEqual(canonical(document.text), document.text)
        reached = 0
        for block in document.blocks:
            if block.kind == PAGE:
                # Only the place where a page begins; everything else has a text.
                self.assertTrue(reached <= block.start == block.end <= len(document.text))
                continue
            self.assertTrue(reached <= block.start < block.end <= len(document.text))
            reached = block.end
        for section in document.sections:
            self.assertTrue(section.start < section.end <= len(document.text))

    @given(st.dictionaries(st.text(st.characters(), max_size=8), st.recursive(
        st.none() | st.booleans() | st.floats() | st.integers() | st.text(st.characters(), max_size=20),
        lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=5), inner, max_size=3),
        max_leaves=8), max_size=4), st.text(st.characters(), min_size=1, max_size=30))  # fmt: skip
    def test_whatever_stands_in_a_row_what_is_read_of_it_can_be_kept(self, fields, identity):
        row = {"id": identity, "text": f"text {identity}", "title": identity, "metadata": fields, "carried": fields}
        try:
            (document,) = read_file(json.dumps(row).encode(), "rows.jsonl")
        except DocumentError as refused:
            self.assertRegex(str(refused), "^rows.jsonl, line 1: ")
            return
        kept = [document.id, document.title, document.text, dict(document.metadata), dict(document.carried)]
        json.dumps(kept, ensure_ascii=False, allow_nan=False).encode()
        self.assertNotIn(r"\x00", repr(kept).replace(r"\\", ""))
        self.assertLessEqual(len(document.id), 500)

    def test_jsonl_documents_and_their_mistakes(self):
        good = '{"id": "a", "title": "A", "text": "Text of a.", "metadata": {"year": 2025}}\n\n'
        self.assertEqual(self.jsonl(good)[0].metadata, {"year": 2025})
        for text, message in (
            (good + "{", "line 3: not JSON"),
            (good + '{"id": "b"}', "line 3: text: missing"),
            (good + good, "line 3: id: 'a' stands in line 1 already"),
            ("[1]", "line 1: not a JSON object"),
        ):
            with self.assertRaisesRegex(DocumentError, message):
                self.jsonl(text)

    def jsonl(self, text):
        with tempfile.NamedTemporaryFile("w", suffix=".jsonl") as file:
            file.write(text)
            file.flush()
            return read_documents(Path(file.name))


class Questions(unittest.TestCase):
    def read(self, *records):
        with tempfile.NamedTemporaryFile("w", suffix=".jsonl") as file:
            file.write("\n".join(r if isinstance(r, str) else json.dumps(r) for r in records))
            file.flush()
            return read_questions(Path(file.name), {document.id: document for document in documents()})

    def test_quotes_become_offsets_whatever_their_white_space(self):
        quote = "Nobody  boards\nafter orange."
        span = self.read({"id": "1", "text": "q", "answers": [{"document": "wind.md", "quote": quote}]})[0].spans[0]
        text = next(d.text for d in documents() if d.id == "wind.md")
        self.assertEqual(text[span.start : span.end], "Nobody boards after orange.")

    def test_each_mistake_names_its_line_and_what_is_wrong(self):
        good = {"id": "1", "text": "q", "answers": [{"document": "wind.md", "start": 0, "end": 4}]}
        for record, message in (
            ("{", "line 2: not JSON"),
            ({"id": "2", "text": "q"}, "line 2: answers: missing; mark"),
            ({"id": "2", "text": " ", "answers": []}, "line 2: text: missing, empty"),
            ({"id": "1", "text": "q", "unanswerable": True}, "line 2: id: '1' stands in line 1 already"),
            ({"id": "2", "text": "q", "answer": []}, "line 2: answer: unknown key"),
            (
                {"id": "2", "text": "q", "unanswerable": True, "share": 2},
                "line 2: share: 2 is not a number from 0 to 1",
            ),
            ({"id": "2", "text": "q", "unanswerable": True, "picture": "AAAA"}, "line 2: picture: not a picture in"),
            (
                {"id": "2", "text": "q", "unanswerable": True, "picture": "%"},
                "line 2: picture: not a picture in base64",
            ),
            ({"id": "2", "text": "q", "answers": [{"document": "x"}]}, r"answers\[0\].document: 'x' is not among"),
            (
                {"id": "2", "text": "q", "answers": [{"document": "wind.md", "quote": "snow"}]},
                '"snow" is not in wind',
            ),
            ({"id": "2", "text": "q", "answers": [{"document": "wind.md", "quote": "mean"}]}, "in wind.md 2 times"),
            ({"id": "2", "text": "q", "answers": [{"document": "wind.md", "start": 3, "end": 2}]}, "not a range"),
            (
                {"id": "2", "text": "q", "answers": [{"document": "wind.md", "grade": -1}]},
                "not a finite number of 0 or more",
            ),
            ({"id": "2", "text": "q", "unanswerable": True, "answers": good["answers"]}, "must be empty"),
        ):
            with self.subTest(message), self.assertRaisesRegex(QuestionError, message):
                self.read(good, record)

    def test_grade_0_says_that_no_answer_stands_there(self):
        answers = [
            {"document": "wind.md", "start": 0, "end": 4},
            {"document": "wind.md", "start": 9, "end": 12, "grade": 0},
        ]
        (question,) = self.read({"id": "1", "text": "q", "answers": answers})
        self.assertEqual([span.start for span in question.spans], [0])
        self.assertEqual([span.start for span in question.rejected], [9])

    def test_questions_of_one_group_are_one_in_other_words(self):
        rows = [{"id": str(n), "text": f"Why {n}?", "unanswerable": True, "group": group}
                for n, group in enumerate(("a", "", "b", "a", "", "1"))]  # fmt: skip
        with tempfile.TemporaryDirectory() as place:
            path = Path(place) / "q.jsonl"
            path.write_text("\n".join(map(json.dumps, rows)))
            asked = read_questions(path, {})
        self.assertEqual([one.group for one in asked], [row["group"] for row in rows])
        groups = wording_groups(asked).tolist()
        self.assertEqual(groups[0], groups[3])
        self.assertEqual(len(set(groups)), 5)

    def test_a_label_without_offsets_and_an_unanswerable_question(self):
        one, two = self.read(
            {"id": "1", "text": "q", "answers": [{"document": "wind.md"}]},
            {"id": "2", "text": "q", "unanswerable": True, "tags": ["t"]},
        )
        self.assertIsNone(one.spans[0].start)
        self.assertFalse(two.answerable)

    def test_signs_of_patterns_are_quoted_literally(self):
        self.assertEqual(find_quote("a (b) c", "(b)"), [(2, 5)])

    @given(st.text("ab \n'-.\u2019\u2026\u00ad\u2013", max_size=30), st.data())
    def test_a_quote_is_found_wherever_it_stands_however_its_marks_are_written(self, text, data):
        def folded(text):
            plain = {"\u2019": "'", "\u2026": "...", "\u00ad": None, "\u2013": "-"}
            return regex.sub(r"\s+", " ", text.translate(str.maketrans(plain)))

        text = canonical(text)
        start = data.draw(st.integers(0, len(text)))
        wanted = folded(text[start : data.draw(st.integers(start, len(text)))]).strip()
        found = find_quote(text, wanted)
        self.assertEqual(len(found), folded(text).count(wanted) if wanted else 0)
        for low, high in found:
            self.assertIn(wanted, folded(text[low:high]))
            self.assertLessEqual(len(folded(text[low:high]).strip()), len(wanted) + 4)


class Corners(unittest.TestCase):
    """Files as people really write them."""

    def blocks(self, text, name):
        document = read_document(text.encode(), name)
        return [document.text[block.start : block.end] for block in document.blocks]

    def test_markdown_lists_within_lists_keep_their_levels(self):
        document = read_document(b"- one\n  - inner\n\n    more of inner\n- two\n\n1. first\n2. second\n", "a.md")
        levels = [(document.text[b.start : b.end], b.level) for b in document.blocks]
        self.assertEqual(
            levels,
            [("- one", 1), ("- inner", 2), ("more of inner", 2), ("- two", 1), ("1. first", 1), ("2. second", 1)],
        )

    def test_markdown_shows_raw_html_as_text_and_runs_none(self):
        self.assertEqual(self.blocks("Hello <script>x</script>", "a.md"), ["Hello <script>x</script>"])

    def test_markdown_emphasis_images_and_line_breaks(self):
        text = "**Bold** and _soft_ ![a cabin](x.png)  \nnext line"
        self.assertEqual(self.blocks(text, "a.md"), ["Bold and soft a cabin\nnext line"])

    def test_html_without_a_main_part_or_a_heading_takes_its_title(self):
        document = read_document(b"<title>Tickets</title><div>One<div>Two</div>Three</div>", "a.html")
        self.assertEqual((document.title, document.text), ("Tickets", "One\n\nTwo\n\nThree"))

    def test_html_entities_comments_and_forms(self):
        text = "<main><p>5 &lt; 6 &amp; 7</p><!-- hidden --><form><input value=x>form</form><pre>a\n  b</pre></main>"
        self.assertEqual(self.blocks(text, "a.html"), ["5 < 6 & 7", "a\n  b"])

    def test_broken_html_is_read_as_far_as_it_goes(self):
        self.assertEqual(self.blocks("<p>one<p>two<table><tr><td>x", "a.html"), ["one", "two", "x"])

    def test_plain_text_with_windows_line_ends_and_a_byte_order_mark(self):
        document = read_document(b"\xef\xbb\xbf1 When\r\n\r\nAt noon.\r\n", "a.txt")
        self.assertEqual(document.text, "1 When\n\nAt noon.\n")
        self.assertEqual(document.sections[0].number, "1")

    def test_a_numbered_sentence_is_no_heading(self):
        document = read_document(b"2 people stand at the gate and wait.\n\nText", "a.txt")
        self.assertEqual(document.sections, ())

    def test_csv_with_line_breaks_and_quotes_in_a_field(self):
        text = 'Code,Note\nE-1,"two\nlines, and ""quotes"""\n'
        self.assertEqual(self.blocks(text, "log.csv"), ["Log", 'Code: E-1; Note: two lines, and "quotes"'])

    def test_csv_mistakes_name_the_line(self):
        for text, message in ((",,\n", "line 1: no header"), ('a,b\n"x,1\n', "a.csv, line 2")):
            with self.assertRaisesRegex(DocumentError, message):
                read_document(text.encode(), "a.csv")

    def test_a_folder_is_read_with_all_below_it_in_the_order_of_names(self):
        with tempfile.TemporaryDirectory() as place:
            folder = Path(place)
            for name in ("b/two.md", "a/one.txt", "b/skip.bin", "three.MD"):
                path = folder / name
                path.parent.mkdir(exist_ok=True)
                path.write_text("Text")
            self.assertEqual([d.id for d in read_documents(folder)], ["a/one.txt", "b/two.md", "three.MD"])
            with self.assertRaisesRegex(DocumentError, "no documents; known endings are .md"):
                read_documents(self.empty(folder))

    def empty(self, folder):
        (folder / "empty").mkdir()
        return folder / "empty"

    def test_paths_of_sections_go_from_the_outermost_inwards(self):
        document = read_document(b"# A\n\n## 1 B\n\n### C\n\nx\n\n## 2 D\n\ny", "a.md")
        paths = [document.section_path(index) for index in range(4)]
        self.assertEqual(paths, [("A",), ("A", "1 B"), ("A", "1 B", "C"), ("A", "2 D")])
        self.assertEqual(document.section_path(-1), ())
        inner = document.sections[1]
        self.assertEqual(document.text[inner.start : inner.end].strip(), "1 B\n\nC\n\nx")
