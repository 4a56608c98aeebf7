"""Which range of a document's text stands at a line of its page."""

import unittest

import weasyprint

from doppio.core.formats.documents import read_file
from doppio.core.formats.pdf_lines import page_lines
from doppio.core.text.document import PAGE, PARAGRAPH, ROW, DocumentBuilder
from doppio.core.text.quotes import Folded
from doppio.core.text.standing import standing
from tests.core.corpus import ROOT

TABLE = """<style>td, th { border: 1px solid black; padding: 4px }</style><h1>Liners</h1>
<table><tr><th>Tower</th><th>Liner</th></tr><tr><td>seven</td><td>5120-C</td></tr>
<tr><td>twelve</td><td>5188-F</td></tr></table><p>All are changed in spring.</p>"""


def placed(*texts):
    return [(text, (0.1, 0.1 * number, 0.9, 0.1 * number + 0.05)) for number, text in enumerate(texts)]


class Standing(unittest.TestCase):
    def test_lines_of_a_manual_are_found_word_for_word(self):
        path = ROOT / "demo" / "documents" / "manuals" / "gondola-maintenance-manual.pdf"
        data = path.read_bytes()
        document = read_file(data, path.name, readings={})[0]
        pages = [block.start for block in document.blocks if block.kind == PAGE]
        for page, low in enumerate(pages[:-1], 1):
            lines = page_lines(data, path.name, page)
            found = standing(lines, document.text, document.blocks, low, pages[page])
            # What is not found is what repeats on every page, and the paragraph that began on the page before.
            self.assertGreaterEqual(len(found), len(lines) - 12)
            self.assertEqual([one.line for one in found], [line for line in lines if line in {o.line for o in found}])
            for one in found:
                if not one.whole:
                    held = document.text[one.start : one.end]
                    self.assertTrue(Folded(one.line[0]).text.startswith(Folded(held).text), (one.line[0], held))
                    self.assertGreaterEqual(len(held), len(one.line[0]) - 20)

    def test_cells_are_those_of_the_row_that_holds_them(self):
        data = weasyprint.HTML(string=TABLE).write_pdf()
        document = read_file(data, "liners.pdf", readings={})[0]
        self.assertIn("Tower: twelve; Liner: 5188-F", document.text)
        found = standing(page_lines(data, "liners.pdf", 1), document.text, document.blocks, 0, len(document.text))
        rows = {one.line[0]: document.text[one.start : one.end] for one in found if one.whole}
        told = {one.line[0]: document.text[one.start : one.end] for one in found}
        self.assertEqual(told["All are changed in spring."], "All are changed in spring.")
        for cells, row in (
            (("seven", "5120-C"), "Tower: seven; Liner: 5120-C"),
            (("twelve", "5188-F"), "Tower: twelve; Liner: 5188-F"),
        ):
            held = [told[line] for line in told if any(cell in line for cell in cells)]
            self.assertTrue(held and all(own in row for own in held), (rows, told))

    def test_a_line_that_is_there_twice_is_the_next_one(self):
        builder = DocumentBuilder()
        for text in ("None found.", "Tower 7: worn.", "None found."):
            builder.add(PARAGRAPH, text)
        document = builder.build("x")
        lines = placed("None found.", "Tower 7: worn.", "None found.")
        found = standing(lines, document.text, document.blocks, 0, len(document.text))
        starts = [one.start for one in found]
        self.assertEqual(starts, sorted(set(starts)))
        self.assertEqual(len(starts), 3)

    def test_a_broken_word_at_the_end_of_a_line_and_what_is_nowhere(self):
        builder = DocumentBuilder()
        builder.add(PARAGRAPH, "The gondola is stopped by the emergency brake.")
        builder.add(ROW, "Tower: 3; Left: 8 mm")
        document = builder.build("x")
        lines = placed("The gondola is stopped by the emer-", "gency brake.", "3", "8 mm", "Page 4 of 9")
        found = standing(lines, document.text, document.blocks, 0, len(document.text))
        told = {one.line[0]: document.text[one.start : one.end] for one in found}
        self.assertEqual(told["The gondola is stopped by the emer-"], "The gondola is stopped by the")
        self.assertEqual(told["gency brake."], "gency brake.")
        self.assertNotIn("Page 4 of 9", told)
