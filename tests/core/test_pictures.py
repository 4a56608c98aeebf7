"""Pictures in documents: where they stand, what is said of them, what is passed over, and what is drawn of them."""

import io
import unittest
from unittest import mock

import docx
import weasyprint
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image, ImageFile

from doppio.core.errors import DocumentError
from doppio.core.formats.bounded import BoundedReader
from doppio.core.formats.documents import read_file
from doppio.core.formats.drawing import LONGEST_SIDE, drawable
from doppio.core.text.document import CAPTION, LEFT_OUT, PICTURE, DocumentBuilder
from doppio.core.text.pictures import Picture
from tests.core.made_files import BLUE, GREEN, RED, inline_picture, make_picture


def opened(data):
    return Image.open(io.BytesIO(data)).convert("RGB")


FIRST, SECOND, THIRD = (
    inline_picture(make_picture(RED), "Anchor plan of tower 7"),
    inline_picture(make_picture(BLUE)),
    inline_picture(make_picture(GREEN), "A green tower"),
)
BROKEN = inline_picture(b"no picture at all", "Broken")
HTML = f"""<h1>Towers</h1><p>Tower 7 stands on rock. {FIRST} It has four bolts.</p>
<figure>{SECOND}<figcaption>Figure 2: The saddle of tower 8</figcaption></figure>
<p><img src="https://away.example/x.png" alt="Not fetched"></p><p>{BROKEN}</p>
<table><tr><th>Tower</th></tr><tr><td>9 {THIRD}</td></tr></table><p>The end.</p>"""


class Placed(unittest.TestCase):
    def test_of_html_with_what_is_said_and_the_caption(self):
        document = read_file(HTML.encode(), "towers.html")[0]
        first, second, third = document.pictures
        self.assertEqual((first.alt, first.width, first.height, first.page), ("Anchor plan of tower 7", 120, 80, 0))
        self.assertEqual(document.text[first.start : first.end], first.alt)
        kinds = {(block.start, block.end): block.kind for block in document.blocks}
        self.assertEqual(kinds[first.start, first.end], PICTURE)
        self.assertEqual((second.alt, second.start), ("", second.end))
        self.assertEqual(second.caption, "Figure 2: The saddle of tower 8")
        self.assertEqual(document.text[second.start :][: len(second.caption)], second.caption)
        self.assertEqual(third.alt, "A green tower")
        for word in ("Not fetched", "Broken"):
            self.assertNotIn(word, document.text)
        self.assertIn("Tower 7 stands on rock. It has four bolts.", document.text)

    def test_of_word_files(self):
        file = docx.Document()
        file.add_heading("Ropes", 1)
        file.add_paragraph("The track rope is locked.").add_run().add_picture(io.BytesIO(make_picture(BLUE)))
        file.inline_shapes[0]._inline.docPr.set("descr", "Cross-section of the rope")
        file.add_paragraph("Figure 1: Cross-section", style="Caption")
        cell = file.add_table(rows=1, cols=2).rows[0].cells[0]
        cell.paragraphs[0].add_run().add_picture(io.BytesIO(make_picture(GREEN, kind="JPEG")))
        target = io.BytesIO()
        file.save(target)
        document = read_file(target.getvalue(), "ropes.docx")[0]
        first, second = document.pictures
        self.assertEqual((first.alt, first.caption), ("Cross-section of the rope", "Figure 1: Cross-section"))
        self.assertEqual((second.alt, second.caption), ("", "Figure 1: Cross-section"))
        for draw, colour in zip(document.drawn, (BLUE, GREEN), strict=True):
            self.assertLess(
                max(abs(a - b) for a, b in zip(opened(draw()).getpixel((100, 40)), colour, strict=True)), 6
            )

    def test_of_pdf_files_as_they_are_seen_on_their_page(self):
        logo = f'<div style="position:fixed;top:0">{inline_picture(make_picture(GREEN, (60, 60)))}</div>'
        pages = "".join(
            f"<h1>Part {n}</h1><p>Before {n}.</p><div>{inline_picture(make_picture(colour, (300, 200)))}</div>"
            f"<p>Figure {n}: Drawing {n}</p><p>After {n}.</p><div style='page-break-after:always'></div>"
            for n, colour in enumerate((RED, BLUE, GREEN), 1)
        )
        document = read_file(weasyprint.HTML(string=logo + pages).write_pdf(), "parts.pdf")[0]
        self.assertEqual([picture.page for picture in document.pictures], [1, 2, 3])
        for number, (picture, draw, colour) in enumerate(
            zip(document.pictures, document.drawn, (RED, BLUE, GREEN), strict=True), 1
        ):
            self.assertEqual(picture.caption, f"Figure {number}: Drawing {number}")
            before = document.text[: picture.start].rstrip()
            self.assertTrue(before.endswith(f"Before {number}."), before[-30:])
            left, top, right, bottom = picture.place
            self.assertTrue(0 < left < right < 1 and 0 < top < bottom < 1)
            drawn = opened(draw())
            self.assertEqual(drawn.size, (picture.width, picture.height))
            self.assertAlmostEqual(picture.width / picture.height, 1.5, places=1)
            right_half = drawn.getpixel((drawn.width * 3 // 4, drawn.height // 2))
            self.assertLess(max(abs(a - b) for a, b in zip(right_half, colour, strict=True)), 8)

    @given(st.lists(st.sampled_from(["text", "caption", "page", "said", "silent"]), max_size=12))
    def test_each_stands_between_what_stood_around_it(self, parts):
        builder, texts, spots = DocumentBuilder(), [], []
        for number, part in enumerate(parts):
            if part in ("text", "caption"):
                texts.append(f"word{number}")
                builder.add(CAPTION if part == "caption" else "paragraph", texts[-1])
            elif part == "page":
                builder.page(number)
            else:
                alt = f"alt{number}" if part == "said" else ""
                spots.append((list(texts), alt))
                texts += [alt] if alt else []
                builder.picture(9, 9, bytes, of=b"", alt=alt)
        document = builder.build("x")
        self.assertEqual(len(document.pictures), len(spots))
        for picture, (before, alt) in zip(document.pictures, spots, strict=True):
            self.assertEqual(document.text[: picture.start].split(), before)
            self.assertEqual(document.text[picture.start : picture.end], alt)
            self.assertEqual(Picture.from_json(picture.to_json()), picture)
            if picture.caption:
                self.assertIn((picture.caption, CAPTION), {
                    (document.text[block.start : block.end], block.kind) for block in document.blocks})  # fmt: skip


class Refused(unittest.TestCase):
    def refuses(self, data, reason):
        with self.assertRaisesRegex(DocumentError, reason):
            drawable(data, "plan.png").draw()

    def test_what_is_made_to_do_harm_is_broken_moves_or_shows_nothing(self):
        frames = [Image.new("RGB", (64, 64), colour) for colour in (RED, BLUE, GREEN)]
        moving = io.BytesIO()
        frames[0].save(moving, "GIF", save_all=True, append_images=frames[1:])
        self.refuses(moving.getvalue(), r"plan.png: moves \(3 frames\)")
        self.refuses(make_picture(RED, (9000, 9000), compress_level=1), "million")
        self.refuses(make_picture(RED, (400, 8)), "400 x 8 pixels are too few")
        self.refuses(b"<svg/>", "no picture that can be read; PNG, JPEG")
        # Another package of this process may have asked for what is there of a picture.
        with mock.patch.object(ImageFile, "LOAD_TRUNCATED_IMAGES", False):
            self.refuses(make_picture(RED, (200, 200))[:90], "a broken picture")
        # The head says more than there is: nothing is unpacked for it.
        bomb = bytearray(make_picture(RED))
        bomb[16:24] = (60_000).to_bytes(4, "big") * 2
        self.refuses(bytes(bomb), "million|picture")

    def test_one_inside_a_document_is_told_with_the_reason_and_the_others_stay(self):
        bomb = bytearray(make_picture(RED))
        bomb[16:24] = (60_000).to_bytes(4, "big") * 2
        bad = [(b"no picture", "Torn"), (make_picture(RED, (400, 8)), "A line"), (bytes(bomb), "")]
        page = "".join(f"<p>Part.</p>{inline_picture(data, alt)}" for data, alt in bad)
        document = read_file(f"<h1>Parts</h1>{page}{FIRST}".encode(), "parts.html")[0]
        self.assertEqual([picture.alt for picture in document.pictures], ["Anchor plan of tower 7"])
        first, second = document.metadata[LEFT_OUT]
        self.assertRegex(first, r"picture 1 \(Torn\): no picture that can be read; PNG, JPEG")
        self.assertRegex(second, "picture 2: .*(million|no picture)")
        target = io.BytesIO()
        file = docx.Document()
        file.add_paragraph("Parts.")
        file.add_picture(io.BytesIO(make_picture(BLUE)))
        file.save(target)
        self.assertNotIn(LEFT_OUT, read_file(target.getvalue(), "parts.docx")[0].metadata)

    @settings(max_examples=60, deadline=None)
    @given(st.integers(0, 2**32), st.sampled_from(["PNG", "JPEG", "WEBP"]))
    def test_altered_bytes_are_drawn_or_refused_and_nothing_else(self, seed, kind):
        import random

        dice, data = random.Random(seed), bytearray(make_picture(BLUE, (40, 40), kind))
        for _ in range(dice.randrange(1, 6)):
            data[dice.randrange(len(data))] = dice.randrange(256)
        try:
            opened(drawable(bytes(data), "x").draw())
        except DocumentError as error:
            self.assertTrue(str(error).startswith("x: "))

    def test_a_large_one_is_drawn_smaller_and_upright(self):
        tags = Image.Exif()
        tags[0x0112] = 6
        found = drawable(make_picture(RED, (2400, 1200), "JPEG", exif=tags), "x")
        drawn = opened(found.draw())
        self.assertEqual(drawn.size, (found.width, found.height))
        self.assertEqual(drawn.size, (LONGEST_SIDE // 2, LONGEST_SIDE))
        # Its dark half was on the left, and is on top once it is turned.
        self.assertLess(drawn.getpixel((400, 100))[0], drawn.getpixel((400, 1500))[0] - 50)


class InAnotherProcess(unittest.TestCase):
    def test_pictures_come_with_their_document_and_are_drawn_by_its_reader(self):
        with BoundedReader() as reader:
            document = reader.documents(HTML.encode(), "towers.html")[0]
            self.assertEqual(document.pictures, read_file(HTML.encode(), "towers.html")[0].pictures)
            drawn = reader.pictures(HTML.encode(), "towers.html", document.pictures)
        self.assertEqual([opened(data).size for data in drawn], [(120, 80)] * 3)
        self.assertEqual([opened(data).getpixel((100, 40)) for data in drawn], [RED, BLUE, GREEN])


if __name__ == "__main__":
    unittest.main()
