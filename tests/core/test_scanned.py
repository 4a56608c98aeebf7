"""Pages that are pictures, and pictures that are files: what is read off them, and what is refused."""

import io
import json
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image, ImageDraw, ImageFilter, ImageFont, PngImagePlugin

from doppio.core.errors import DocumentError
from doppio.core.formats.bounded import BoundedReader
from doppio.core.formats.documents import draw, read_file
from doppio.core.formats.drawing import drawing_of_lines
from doppio.core.formats.optical import READ_CONFIDENCE, READ_PAGES, ReadLine
from doppio.core.formats.scanned import Cells, Prose, laid_out
from doppio.core.text.document import HEADING, PAGE, PICTURE, ROW
from tests.core.made_files import RED, make_pdf, make_picture

LINES = [
    (60, 60, 40, "Grip inspection"),
    (60, 150, 24, "The jaw of a detachable grip is measured every"),
    (60, 182, 24, "500 hours; below 41 mm it is replaced."),
    (60, 260, 24, "Code"), (260, 260, 24, "Meaning"), (560, 260, 24, "Action"),
    (60, 296, 24, "E-217"), (260, 296, 24, "Rope off sheave"), (560, 296, 24, "stop at once"),
    (60, 332, 24, "E-218"), (260, 332, 24, "Grip not closed"), (560, 332, 24, "hold in station"),
]  # fmt: skip
NAMES = 'xmlns="http://www.w3.org/2000/svg" xmlns:xlink="http://www.w3.org/1999/xlink"'
SVG = f'<svg {NAMES} viewBox="0 0 200 100">{{}}</svg>'


def scan(lines=LINES, size=(827, 1169), turn=0.6):
    """A printed page as a scanner sees it: a little skewed, blurred and noisy."""
    page = Image.new("L", size, 255)
    pen = ImageDraw.Draw(page)
    for x, y, high, text in lines:
        pen.text((x, y), text, fill=0, font=ImageFont.load_default(high))
    page = page.rotate(turn, fillcolor=255).filter(ImageFilter.GaussianBlur(0.6))
    grain = np.random.default_rng(5).normal(0, 8, (size[1], size[0]))
    return Image.fromarray((np.asarray(page) + grain).clip(0, 255).astype(np.uint8))


def as_file(picture, kind, **more):
    target = io.BytesIO()
    picture.save(target, kind, **more)
    return target.getvalue()


def line(text, left, top, right, high=0.02, sure=0.9):
    return ReadLine(text, sure, (left, top, right, top + high))


class Held(dict):
    """Readings that are kept; counts what is put."""

    def put(self, page, lines):
        self[page] = lines


class Pages(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.data = as_file(scan(), "PDF", resolution=100)
        cls.kept = Held()
        with BoundedReader() as reader:
            [cls.document] = reader.documents(cls.data, "grips.pdf", kept=cls.kept)

    def test_words_and_tables_are_read_and_it_is_said_how_surely(self):
        document = self.document
        self.assertIn("The jaw of a detachable grip is measured every 500 hours; below 41 mm", document.text)
        headings = [document.text[b.start : b.end] for b in document.blocks if b.kind == HEADING]
        self.assertEqual(headings, ["Grip inspection"])
        rows = [document.text[b.start : b.end] for b in document.blocks if b.kind == ROW]
        self.assertEqual(rows[0], "Code: E-217; Meaning: Rope off sheave; Action: stop at once")
        self.assertEqual(rows[1], "Code: E-218; Meaning: Grip not closed; Action: hold in station")
        self.assertEqual([b.level for b in document.blocks if b.kind == PAGE], [1])
        self.assertGreater(document.metadata[READ_CONFIDENCE], 0.8)
        [told] = document.metadata[READ_PAGES]
        self.assertTrue(told.startswith("1: 0."), told)
        # The page itself is a picture of the document, and scorers have its words already.
        [picture] = document.pictures
        self.assertEqual((picture.page, picture.is_page), (1, True))

    def test_a_page_that_was_read_is_not_read_again(self):
        self.assertEqual(list(self.kept), [1])
        other = [line("An other hand wrote this line of a few words.", 0.1, 0.1, 0.7)]
        with BoundedReader() as reader:
            [again] = reader.documents(self.data, "grips.pdf", kept=Held({1: other}))
        self.assertEqual(again.text, "An other hand wrote this line of a few words.")

    def test_pages_with_words_are_not_read_off(self):
        data = make_pdf([["Fog rules", "In fog the line is slowed to four metres a second."]], picture=True)
        [document] = read_file(data, "fog.pdf", None, {})
        self.assertNotIn(READ_PAGES, document.metadata)

    def test_lines_come_back_from_json_as_they_were(self):
        for found in self.kept[1]:
            self.assertEqual(ReadLine.from_json(json.loads(json.dumps(found.to_json()))), found)


class LaidOut(unittest.TestCase):
    def test_columns_of_prose_follow_one_another(self):
        left = [line(f"left {n} of the first column of words", 0.08, 0.1 + 0.03 * n, 0.47) for n in range(4)]
        right = [line(f"right {n} of the second column here", 0.53, 0.1 + 0.03 * n, 0.92) for n in range(4)]
        mixed = [one for pair in zip(left, right, strict=True) for one in pair]
        found = laid_out(mixed, 0.7)
        self.assertEqual([one.line for one in found], left + right)
        self.assertEqual(len({one.paragraph for one in found}), 2)

    def test_rows_of_cells_are_a_table_and_an_empty_cell_keeps_its_column(self):
        rows = [("Part", "Drawing", "Stock"), ("4711-B", "D 12", "8"), ("4712-A", "", "3")]
        lines = [
            line(text, 0.1 + 0.25 * column, 0.2 + 0.03 * row, 0.1 + 0.25 * column + 0.012 * len(text))
            for row, cells in enumerate(rows)
            for column, text in enumerate(cells)
            if text
        ]
        [table] = laid_out(lines, 0.7)
        self.assertIsInstance(table, Cells)
        self.assertEqual([tuple(row) for row in table.rows], rows)

    @settings(max_examples=80, deadline=None)
    @given(
        st.lists(
            st.tuples(st.integers(0, 60), st.integers(0, 60), st.integers(1, 30)),
            min_size=1,
            max_size=25,
            unique=True,
        )
    )
    def test_no_line_is_lost_and_none_comes_twice(self, places):
        lines = [
            line(f"w{number}", x / 100, y / 70, x / 100 + wide / 100) for number, (x, y, wide) in enumerate(places)
        ]
        words = []
        for one in laid_out(sorted(lines, key=lambda own: own.place[1]), 0.7):
            texts = [one.line.text] if isinstance(one, Prose) else [cell for row in one.rows for cell in row]
            words += " ".join(texts).split()
        self.assertEqual(sorted(words), sorted(one.text for one in lines))


class Files(unittest.TestCase):
    def test_a_picture_is_a_document_with_what_its_file_says_and_its_words(self):
        told = PngImagePlugin.PngInfo()
        told.add_text("Description", "The brake of tower 7 from the side")
        page = scan([(30, 40, 28, "Release lever"), (30, 260, 28, "Brake pad")], (420, 330), 0)
        data = as_file(page, "PNG", pnginfo=told)
        [document] = read_file(data, "parts/brake-tower_7.png")
        self.assertEqual(document.title, "brake tower 7")
        self.assertIn("Release lever", document.text)
        self.assertIn("Brake pad", document.text)
        [picture] = document.pictures
        self.assertEqual(picture.alt, "The brake of tower 7 from the side")
        self.assertEqual(document.text[slice(*document.anchor(picture))], picture.alt)
        self.assertEqual([b.kind for b in document.blocks][:2], [HEADING, PICTURE])
        [drawn] = draw(data, "parts/brake-tower_7.png", document.pictures)
        self.assertEqual(Image.open(io.BytesIO(drawn)).size, (420, 330))

    def test_one_without_words_has_its_name(self):
        [document] = read_file(make_picture(RED), "red-tower.jpeg".replace("jpeg", "png"))
        self.assertEqual(document.text, "red tower")
        self.assertNotIn(READ_CONFIDENCE, document.metadata)

    def test_pictures_with_other_bytes_are_other_documents(self):
        one, other = (read_file(make_picture(c), "a.png", None, {1: []})[0] for c in (RED, (1, 2, 3)))
        self.assertEqual(one.text, other.text)
        self.assertNotEqual(one.digest, other.digest)

    def test_lines_are_drawn_and_nothing_outside_is_looked_up(self):
        inside = (
            "<title>Tower  7</title><desc>A mast</desc><script>x()</script>"
            '<rect width="100" height="100" fill="rgb(0,128,0)"/>'
            '<image width="100" height="100" x="100" xlink:href="/etc/hostname"/>'
            '<image width="100" height="100" x="100" href="http://127.0.0.1:9/a.png"/>'
        )
        data = SVG.format(inside).encode()
        [document] = read_file(data, "t.svg", None, {1: []})
        self.assertEqual((document.title, document.pictures[0].alt), ("Tower 7", "A mast"))
        drawn = Image.open(io.BytesIO(draw(data, "t.svg", document.pictures)[0])).convert("RGB")
        self.assertEqual(drawn.size, (200, 100))
        self.assertEqual(drawn.getpixel((50, 50)), (0, 128, 0))
        self.assertEqual(drawn.getpixel((150, 50)), (255, 255, 255))

    def test_sizes_are_those_that_the_file_says_within_bounds(self):
        for told, size in (
            ('width="2in" height="96"', (192, 96)), ('width="100"', (100, 50)), ("", (200, 100)),
            ('width="64000" height="32000"', (1600, 800)), ('width="50%" height="x"', (200, 100)),
        ):  # fmt: skip
            found = drawing_of_lines(SVG.replace("viewBox", f"{told} viewBox").format("").encode(), "a.svg")
            self.assertEqual((found.width, found.height), size, told)

    def test_reasons_for_refusal(self):
        entity = b'<!DOCTYPE svg [<!ENTITY a "aaaaaaaaaa">]><svg xmlns="http://www.w3.org/2000/svg">&a;</svg>'
        for data, name, reason in (
            (b"<svg", "a.svg", "a broken SVG"),
            (b"<html/>", "a.svg", "no SVG; its first element is <html>"),
            (SVG.replace("200 100", "4 4").format("").encode(), "a.svg", "4 x 4 pixels are too few"),
            (b"x", "a.png", "no picture that can be read"),
            (make_picture(RED, (9000, 9000), compress_level=1), "a.png", "9,000 x 9,000 pixels are more"),
            (as_file(Image.new("RGB", (50, 50)), "WEBP", save_all=True,
                     append_images=[Image.new("RGB", (50, 50), "red")]), "a.webp", r"moves \(2 frames\)"),
        ):  # fmt: skip
            with self.assertRaisesRegex(DocumentError, f"{name}: {reason}"), BoundedReader() as reader:
                reader.documents(data, name)
        # What an entity stands for is never put in its place.
        with self.assertRaisesRegex(DocumentError, "a.svg: a broken SVG"):
            drawing_of_lines(entity, "a.svg").draw()
