"""Pictures in files beside a page: found where the page looks for them, and carried by it from there on."""

import base64
import io
import tempfile
import unittest
from pathlib import Path
from urllib.parse import unquote

from bs4 import BeautifulSoup
from hypothesis import given
from hypothesis import strategies as st
from markdown_it import MarkdownIt
from PIL import Image

from doppio.core.formats.beside import ROOM, Beside, addresses, apart
from doppio.core.formats.documents import draw, read_documents, read_file
from doppio.core.formats.page_reading import read_picture
from tests.core.made_files import BLUE, GREEN, RED, make_picture

PAGE = (
    '<h1>Tower 7</h1><p>Four bolts hold it.</p><figure><img src="img/red%20tower.png?v=2" alt="Four red bolts">'
    "<figcaption>Anchor plan</figcaption></figure><p>Below is <IMG alt='a > b' SRC=../blue.png> the other.</p>"
    '<img src="https://example.org/far.png"><img src="img/gone.png"><img data-src="img/late.png">'
)
NOTES = (
    "# Notes\n\nSee ![the *red* tower](<img/red tower.png>) here, and [this page](other.md).\n\n"
    '| Part | Seen |\n|---|---|\n| bolt | ![][plan] |\n\n![](img/gone.webp "Gone")\n\n'
    "[plan]: ../blue.png\n[more]: x.md\n"
)
FILES = {
    "manual/img/red tower.png": make_picture(RED),
    "blue.png": make_picture(BLUE, (90, 60)),
    "alone.png": make_picture(GREEN),
}
DRAWING = (
    '<svg viewBox="0 0 300 200"><title>Plan of &amp; for tower&nbsp;7</title><linearGradient id="g"/>'
    '<svg x="5"><rect width="300" height="200" fill="rgb(200,0,0)"/></svg><text x="9" y="90">T7&nbsp;</text></svg>'
)


def colour(data):
    with Image.open(io.BytesIO(data)) as picture:
        shown = picture.convert("RGB")
        return shown.getpixel((shown.width // 2, 5))


def joined(page, name, files=FILES):
    return Beside(files, files.__getitem__).join(page.encode(), name)


class Pages(unittest.TestCase):
    def test_a_page_of_html_carries_the_pictures_that_stand_beside_it(self):
        found = joined(PAGE, "manual/tower.html")
        self.assertEqual(found.shown, ("manual/img/red tower.png", "blue.png"))
        self.assertEqual(found.missing, ("img/gone.png", "img/late.png"))
        self.assertIn("it shows img/gone.png, img/late.png, which are not among the pictures", found.told)
        bare, whole = (read_file(data, "manual/tower.html")[0] for data in (PAGE.encode(), found.data))
        self.assertEqual(bare.pictures, ())
        self.assertEqual([one.alt for one in whole.pictures], ["Four red bolts", "a > b"])
        self.assertEqual(whole.pictures[0].caption, "Anchor plan")
        self.assertEqual(whole.text.replace("\n\nFour red bolts", "").replace("\n\na > b", ""), bare.text)
        # What keeps the page keeps its pictures.
        shown = draw(found.data, "manual/tower.html", whole.pictures)
        self.assertEqual([colour(one) for one in shown], [RED, BLUE])

    def test_a_page_of_markdown_does_too_and_says_the_alternative_text_once(self):
        found = joined(NOTES, "manual/notes.md")
        self.assertEqual((set(found.shown), found.missing), (set(list(FILES)[:2]), ("img/gone.webp",)))
        (document,) = read_file(found.data, "manual/notes.md")
        self.assertEqual(document.text, "Notes\n\nSee here, and this page.\n\nthe red tower\n\nPart: bolt")
        seen = [(one.alt, colour(show())) for one, show in zip(document.pictures, document.drawn, strict=True)]
        self.assertEqual(seen, [("the red tower", RED), ("", BLUE)])
        (bare,) = read_file(NOTES.encode(), "manual/notes.md")
        self.assertIn("See the red tower here", bare.text)

    def test_listings_are_no_pictures_and_do_not_swallow_those_behind_the_text(self):
        page = "# A\n\n```\n![x](img/gone.png)\n```\n\n![Red](<img/red tower.png>)\n\n~~~\nnever closed\n"
        found = joined(page, "manual/a.md")
        self.assertEqual((found.shown, found.missing), (("manual/img/red tower.png",), ()))
        (document,) = read_file(found.data, "manual/a.md")
        self.assertEqual(len(document.pictures), 1)
        self.assertTrue(document.text.endswith("never closed"))

    def test_an_address_is_looked_for_from_the_page_and_from_the_top_of_its_site(self):
        files = {"site/img/a.png": b"1", "site/b.png": b"2", "c.png": b"3"}
        for page, address, wanted in (
            ("site/deep/in/p.md", "/img/a.png", "site/img/a.png"),
            ("site/deep/in/p.md", "../../b.png", "site/b.png"),
            ("site/deep/in/p.md", "img/a.png", None),
            ("site/p.md", "./x/../img/a.png#part", "site/img/a.png"),
            ("site/p.md", "../../../etc/c.png", None),
            ("p.md", "pictures/c.png", "c.png"),
            ("site/p.md", "pictures/c.png", None),
        ):
            with self.subTest(page=page, address=address):
                found = joined(f"![x]({address})", page, files)
                self.assertEqual((found.shown, found.missing), ((wanted,), ()) if wanted else ((), (address,)))

    def test_a_folder_has_no_documents_of_pictures_that_its_pages_show(self):
        with tempfile.TemporaryDirectory() as place:
            folder = Path(place)
            for name, data in {
                **FILES,
                "manual/tower.html": PAGE.encode(),
                "manual/notes.md": NOTES.encode(),
            }.items():
                (folder / name).parent.mkdir(exist_ok=True, parents=True)
                (folder / name).write_bytes(data)
            documents = read_documents(folder)
        self.assertEqual([one.id for one in documents], ["alone.png", "manual/notes.md", "manual/tower.html"])
        self.assertEqual([len(one.pictures) for one in documents], [1, 2, 2])

    def test_what_is_too_much_for_a_page_stays_outside(self):
        half = bytes(ROOM // 2 + 1)
        found = joined("![a](a.png) ![b](b.png) ![a](a.png)", "p.md", {"a.png": half, "b.png": half})
        self.assertEqual((found.shown, found.too_many), (("a.png",), ("b.png",)))
        self.assertIn("b.png, which is beyond the 64 MiB", found.told)

    @given(
        st.lists(st.tuples(st.text(min_size=1, max_size=12), st.binary(max_size=40)), max_size=4),
        st.text(max_size=60),
    )
    def test_what_was_put_behind_a_text_is_taken_from_there(self, pictures, text):
        wanted = {}
        files = {}
        page = text.replace("\r", "")
        for number, (name, data) in enumerate(pictures):
            address = "".join(c for c in name if c.isalnum()) + f"-{number}.png"
            files[address] = wanted[unquote(address)] = data
            page += f"\n\n![]({address})"
        try:
            page.encode()
        except UnicodeEncodeError:
            return
        found = joined(page, "p.md", files)
        left, got = apart(found.data.decode())
        if found.shown:
            self.assertEqual(left, page.removeprefix("\ufeff"))
        self.assertEqual(got, {address: wanted[address] for address in found.shown})

    @given(st.lists(st.sampled_from(
        ["![a](x.png)", "![b](<y z.png>)", "[c](d.md)", "[![in](e.jpg)](f.md)", "`![g](h.png)`",
         "![i]\n\n[i]: j.svg\n", "![k](l(1).png 'm')", "![n [o] p](q.webp)", "\\![r](s.png)", "    ![t](u.png)",
         "> ![v](w.gif)", "- ![A](B.png)"]
    ), max_size=6))  # fmt: skip
    def test_every_picture_that_a_parser_of_markdown_sees_is_looked_for(self, parts):
        text = "\n\n".join(parts)
        seen = {
            unquote(child.attrGet("src"))
            for token in MarkdownIt("commonmark").parse(text)
            for child in token.children or ()
            if child.type == "image"
        }
        self.assertLessEqual(seen, set(addresses(text, "a.md")))

    @given(st.lists(st.sampled_from(
        ['<img src="a.png">', "<img alt='x > y' src='b c.png'/>", "<IMG SRC=d.png ALT=e>", "<p>f</p>", "<img>",
         "<imgs src=g.png>", '<img data-src="h.png" src="i.png">', '<img\nalt="src=j.png"\nsrc = "k&amp;l.png">',
         "<img hidden src=m.png>", "<image src=n.png>"]
    ), max_size=6))  # fmt: skip
    def test_every_picture_that_a_parser_of_html_sees_is_looked_for_and_no_other(self, parts):
        text = "<div>".join(parts)
        seen = [tag["src"] for tag in BeautifulSoup(text, "html.parser").find_all("img", src=True)]
        self.assertEqual(addresses(text, "a.html"), list(dict.fromkeys(seen)))

    def test_pictures_that_are_loaded_late_are_looked_for_where_their_script_would(self):
        dot = "data:image/gif;base64,R0lGODlhAQABAAAAACw="
        page = (
            f'<p>Text.</p><img src="{dot}" data-src="blue.png"><img data-original="manual/img/red tower.png">'
            '<img srcset="alone.png 1x, far.png 2x"><img src="blue.png" data-src="https://example.org/blue.png">'
        )
        found = joined(page, "p.html")
        self.assertEqual(
            (list(found.shown), found.missing), (["blue.png", "manual/img/red tower.png", "alone.png"], ())
        )
        (document,) = read_file(found.data, "p.html")
        self.assertEqual([colour(show()) for show in document.drawn], [BLUE, RED, GREEN, BLUE])


class InTheText(unittest.TestCase):
    def test_a_drawing_between_the_words_of_html_is_a_picture_and_an_icon_is_none(self):
        icons = '<svg width="16" height="16"><text>x</text></svg><svg viewBox="0 0 512 512"><path d="M0 0"/></svg>'
        hidden = '<svg aria-hidden="true" width="300" height="300"><text>y</text></svg>'
        page = f"<h1>T</h1><p>Before.{icons}{hidden}</p>{DRAWING}<p>After.</p>"
        (document,) = read_file(page.encode(), "t.html")
        self.assertEqual(
            document.text, "T\n\nBefore.\n\nPlan of & for tower\N{NO-BREAK SPACE}7\n\nAfter.".replace("\xa0", " ")
        )
        (one,) = document.pictures
        self.assertEqual((one.width, one.height), (300, 200))
        self.assertEqual(colour(document.drawn[0]()), (200, 0, 0))

    def test_words_of_a_drawing_are_drawn_in_whatever_font_they_are_said_to_be(self):
        for font in (
            "",
            "font-family='Helvetica'",
            "font-family='Nowhere, monospace'",
            "style='font: bold 30px serif'",
        ):
            with self.subTest(font):
                page = (
                    f"<svg width='300' height='80'><text x='9' y='50' font-size='30' {font}>spring 40 N</text></svg>"
                )
                (document,) = read_file(page.encode() + b"<p>Text.</p>", "t.html")
                with Image.open(io.BytesIO(document.drawn[0]())) as picture:
                    dark = sum(picture.convert("L").histogram()[:128])
                self.assertGreater(dark, 500)
                self.assertIn("spring", " ".join(line.text for line in read_picture(document.drawn[0]())).lower())

    def test_sides_and_figures_tell_drawings_from_icons_too(self):
        path = "<path d='M0 0L90 90'/></svg>"
        for page, count in (
            (f"<svg width='120' height='80px'>{path}", 1),
            (f"<svg width='1em' height='1em'>{path}", 0),
            (f"<figure><svg viewBox='0 0 90 90'>{path}</figure>", 1),
            (f"<figure>x</figure><svg viewBox='0 0 90 90'>{path}", 0),
            (f"<svg width='120' height='80'>{path.replace('</svg>', '')}", 0),
            ("<svg width='120' height='80'><path d='M0 0' </svg>", 0),
        ):
            with self.subTest(page):
                (document,) = read_file(f"<p>Text.</p>{page}".encode(), "t.html")
                self.assertEqual(len(document.pictures), count)

    def test_addresses_may_carry_drawings_of_lines_and_pictures_of_any_length(self):
        plan = (
            DRAWING.replace("&nbsp;", " ")
            .replace("<svg view", '<svg xmlns="http://www.w3.org/2000/svg" view')
            .encode()
        )
        noise = io.BytesIO()
        Image.effect_noise((2200, 2200), 90).convert("RGB").save(noise, "BMP")
        long = base64.b64encode(noise.getvalue()).decode()
        self.assertGreater(len(long), 15_000_000)
        page = (
            f'<p>Text.</p><img src="data:image/svg+xml;base64,{base64.b64encode(plan).decode()}">'
            "<img src=\"data:image/svg+xml;utf8,%3Csvg xmlns='http://www.w3.org/2000/svg' "
            "width='90' height='70'/%3E\">"
            f"<img alt='Noise' src='data:image/bmp;base64,{long}'>"
        )
        (document,) = read_file(page.encode(), "t.html")
        self.assertEqual([(one.width, one.height) for one in document.pictures], [(300, 200), (90, 70), (1600, 1600)])
        self.assertEqual(document.pictures[2].alt, "Noise")
