"""Make the drawings, tables and scanned sheets of the demo: everything on them is made up and drawn here.

    .venv/bin/python demo/make/drawings.py

Writes `demo/drawings/documents`, and `demo/drawings/readings`, what the optical reader reads on the scanned pages, so
that a first start need not wait for it. The files are kept; this is run again only when something here changes.
"""

import base64
import io
import json
import math
import sys
from pathlib import Path

import numpy as np
from PIL import Image, ImageDraw, ImageFilter, ImageFont

HERE = Path(__file__).resolve().parent
sys.path.insert(0, str(HERE.parents[1] / "src"))

PLACE = HERE.parent / "drawings"
INK, RED, PAPER = (38, 30, 24), (176, 44, 36), (252, 250, 244)
# Number, height in metres, span after it in metres, sheaves a side, and what is special about it.
TOWERS = [
    (1, 9.5, 96, 8, ""),
    (2, 14, 148, 4, "ladder"),
    (3, 22, 187, 6, ""),
    (4, 18.5, 163, 4, ""),
    (5, 27, 231, 6, "anemometer"),
    (6, 31.5, 214, 8, ""),
    (7, 38, 305, 8, "maintenance platform"),
    (8, 24, 176, 6, ""),
    (9, 12.5, 121, 4, "hold-down sheaves"),
    (10, 29, 248, 6, ""),
    (11, 35, 276, 8, "anemometer"),
    (12, 20, 158, 12, ""),
    (13, 16.5, 134, 4, "ladder"),
    (14, 11, 88, 10, ""),
]
PARTS = {
    "Detachable grip": [
        ("jaw, fixed", "4711-A"),
        ("jaw, moving", "4711-B"),
        ("spring", "4718-C"),
        ("roller", "4722-A"),
    ],
    "Sheave": [("liner", "5120-C"), ("flange", "5121-A"), ("bearing", "6210-Z"), ("shaft", "5126-B")],
    "Emergency brake": [("calliper", "6301-B"), ("brake pad", "6304-D"), ("disc spring", "6309-A")],
    "Rope clamp": [("clamp half", "3340-A"), ("bolt M20", "3341-M"), ("lock plate", "3345-B")],
    "Door drive": [("motor", "7702-E"), ("toothed belt", "7705-T"), ("end switch", "7711-S")],
    "Hanger": [("hanger arm", "2210-H"), ("damper", "2214-D"), ("pin", "2219-P")],
    "Tension carriage": [("cylinder", "8105-Z"), ("guide wheel", "8109-G"), ("limit switch", "8113-S")],
    "Track rope shoe": [("shoe", "3910-T"), ("bronze liner", "3912-L"), ("grease nipple", "3917-N")],
    "Gear box": [("pinion", "9004-P"), ("oil filter", "9010-F"), ("sight glass", "9013-G")],
    "Evacuation winch": [("drum", "1508-D"), ("descender", "1511-A"), ("hand crank", "1519-K")],
}
PANELS = {
    "Drive desk": ["H1 line ready", "H2 slow", "H3 brake open", "S4 key: service"],
    "Safety chain": ["H5 door open", "H6 wind alarm", "H7 rope off sheave", "S8 reset"],
    "Brake cabinet": ["P1 118 bar", "V3 hand pump", "H9 pressure low", "S2 release"],
    "Tension room": ["M4 position", "H11 limit switch up", "H12 limit switch down", "S6 jog"],
    "Garage": ["S1 gate", "S3 switch points", "H4 track full", "H8 carrier late"],
    "Evacuation set": ["S1 diesel start", "H2 oil pressure", "S5 hydraulic valve", "H6 ready"],
}
TABLES = {
    "Greasing": [
        ("Part", "Grease", "Every"),
        ("haul rope", "RL-3 thin", "6 weeks"),
        ("sheave bearing", "LT-2", "500 h"),
        ("door hinge", "silicone", "3 months"),
        ("track rope", "RL-9 thick", "2 years"),
    ],
    "Tightening": [
        ("Bolt", "Torque", "Tool"),
        ("rope clamp", "340 Nm", "TW-40"),
        ("hanger pin", "85 Nm", "TW-12"),
        ("sheave shaft", "210 Nm", "TW-40"),
        ("grip cover", "24 Nm", "TW-05"),
    ],
    "Rope ends": [
        ("Rope", "Diameter", "Shortened"),
        ("haul rope, line A", "38 mm", "2024"),
        ("haul rope, line B", "41 mm", "2022"),
        ("track rope, line C", "52 mm", "2019"),
    ],
    "Radio": [
        ("Channel", "Used by", "Call sign"),
        ("1", "operators", "Horn"),
        ("3", "evacuation", "Eagle"),
        ("6", "workshop", "Anvil"),
        ("9", "ski patrol", "Lynx"),
    ],
    "Loads": [
        ("Carrier", "Persons", "Payload"),
        ("gondola", "10", "800 kg"),
        ("chair", "6", "480 kg"),
        ("work car", "4", "650 kg"),
        ("goods car", "0", "1200 kg"),
    ],
}
SCENES = [
    ("A red gondola in falling snow", (200, 45, 40), (226, 231, 238), True),
    ("A blue gondola before the evening sky", (45, 80, 170), (176, 112, 96), True),
    ("A yellow gondola in fog", (226, 186, 50), (196, 200, 203), True),
    ("A green gondola on a clear morning", (50, 130, 80), (150, 190, 230), True),
    ("A red gondola on a clear morning", (200, 45, 40), (150, 190, 230), False),
    ("A yellow gondola in falling snow", (226, 186, 50), (226, 231, 238), False),
    ("A blue gondola in fog", (45, 80, 170), (196, 200, 203), False),
]
SHEETS = [
    (
        "Haul rope, line A",
        [
            ("Point", "Wires broken", "Diameter"),
            ("km 0.2", "1", "37.8 mm"),
            ("km 0.9", "4", "37.1 mm"),
            ("km 1.6", "0", "37.9 mm"),
        ],
        "The splice at km 0.9 is looked at again in four weeks.",
    ),
    (
        "Haul rope, line B",
        [
            ("Point", "Wires broken", "Diameter"),
            ("km 0.1", "0", "40.8 mm"),
            ("km 1.1", "2", "40.5 mm"),
            ("km 1.9", "6", "39.7 mm"),
        ],
        "The rope of line B is shortened before the winter season.",
    ),
    (
        "Emergency brake",
        [("Test", "Load", "Way"), ("1", "empty", "9.4 m"), ("2", "half", "11.8 m"), ("3", "full", "14.6 m")],
        "Test three was made in rain; the pads 6304-D are worn to seven millimetres.",
    ),
    (
        "Anemometers",
        [
            ("Tower", "Shown", "Compared"),
            ("5", "17.5 m/s", "17.9 m/s"),
            ("11", "16.0 m/s", "18.2 m/s"),
            ("summit", "18.4 m/s", "18.3 m/s"),
        ],
        "The anemometer of tower 11 shows too little and is changed.",
    ),
    (
        "Evacuation drill",
        [("Group", "Carriers", "Minutes"), ("Eagle 1", "14", "52"), ("Eagle 2", "11", "61"), ("Eagle 3", "9", "48")],
        "Group two lacked a second descender at tower 7.",
    ),
    (
        "Sheave liners",
        [("Tower", "Liner", "Left"), ("3", "5120-C", "8 mm"), ("7", "5120-C", "3 mm"), ("12", "5120-C", "6 mm")],
        "The liners of tower 7 are changed at once; those of tower 12 in spring.",
    ),
]


def font(size: int) -> ImageFont.FreeTypeFont | ImageFont.ImageFont:
    return ImageFont.load_default(size)


def sheet(size: tuple[int, int], title: str) -> tuple[Image.Image, ImageDraw.ImageDraw]:
    """A sheet of drawing paper with a frame and a title block."""
    picture = Image.new("RGB", size, PAPER)
    pen = ImageDraw.Draw(picture)
    wide, high = size
    pen.rectangle((8, 8, wide - 9, high - 9), outline=INK, width=2)
    pen.line((8, high - 44, wide - 9, high - 44), fill=INK, width=2)
    pen.text((20, high - 38), title, fill=INK, font=font(22))
    pen.text((wide - 150, high - 34), "BRACKENHORN", fill=(120, 110, 100), font=font(15))
    return picture, pen


def tower(number: int, height: float, span: int, sheaves: int, special: str) -> Image.Image:
    picture, pen = sheet((560, 420), f"Tower {number}")
    foot, middle = 352, 170
    top = foot - 110 - int(4.4 * height)
    half = 18 + int(height)
    for side in (-1, 1):
        pen.line((middle + side * half, foot, middle + side * 10, top), fill=INK, width=4)
    steps = 4 + int(height / 5)
    for step in range(steps):
        y, z = (top + (foot - top) * at / steps for at in (step, step + 1))
        one, two = (10 + (half - 10) * at / steps for at in (step, step + 1))
        pen.line((middle - one, y, middle + two, z), fill=(110, 100, 90), width=2)
        pen.line((middle + one, y, middle - two, z), fill=(110, 100, 90), width=2)
    pen.line((middle - 118, top, middle + 118, top), fill=INK, width=7)
    for side in (-1, 1):
        for wheel in range(sheaves // 2):
            x = middle + side * (58 + 60 * (wheel + 0.5) / (sheaves / 2))
            pen.ellipse((x - 8, top - 19, x + 8, top - 3), outline=INK, width=3)
        pen.line((middle + side * 50, top - 21, middle + side * 150, top - 21), fill=(150, 60, 40), width=3)
    pen.line((30, foot, 320, foot), fill=INK, width=3)
    x = 322
    pen.line((x, top, x, foot), fill=RED, width=2)
    for y, way in ((top, 8), (foot, -8)):
        pen.polygon(((x, y), (x - 5, y + way), (x + 5, y + way)), fill=RED)
    lines = [f"h = {height:g} m", f"span after {span} m", f"{sheaves} sheaves a side", special]
    for row, text in enumerate(line for line in lines if line):
        pen.text((x + 12, 170 + 30 * row), text, fill=INK, font=font(19 if len(text) < 15 else 15))
    if special == "anemometer":
        pen.line((middle, top, middle, top - 40), fill=INK, width=3)
        pen.ellipse((middle - 12, top - 50, middle + 12, top - 38), outline=INK, width=3)
    if special == "ladder":
        for y in range(top + 20, foot - 10, 12):
            pen.line((middle - 7, y, middle + 7, y), fill=INK, width=2)
    if special == "maintenance platform":
        pen.rectangle((middle - 90, top + 24, middle + 90, top + 32), fill=(150, 140, 130), outline=INK)
    return picture


def part(name: str, rows: list[tuple[str, str]], number: int) -> Image.Image:
    picture, pen = sheet((560, 400), name)
    dice = np.random.default_rng(number)
    for place, (_, _) in enumerate(rows):
        x, y = 60 + 62 * place, 60 + 26 * place + int(dice.integers(-12, 12))
        wide, high = int(dice.integers(46, 84)), int(dice.integers(50, 120))
        box = (x, y, x + wide, y + high)
        shade = tuple(int(value) for value in dice.integers(205, 240, 3))
        (pen.ellipse if (place + number) % 2 else pen.rectangle)(box, fill=shade, outline=INK, width=3)
        pen.ellipse(
            (x + wide / 2 - 10, y + high / 2 - 10, x + wide / 2 + 10, y + high / 2 + 10), outline=INK, width=2
        )
        pen.line((x + wide, y + 6, x + wide + 24, y - 20), fill=INK, width=2)
        pen.ellipse((x + wide + 18, y - 46, x + wide + 46, y - 18), fill="white", outline=INK, width=2)
        pen.text((x + wide + 26, y - 42), str(place + 1), fill=INK, font=font(19))
    for place, (what, code) in enumerate(rows):
        pen.text((330, 210 + 32 * place), f"{place + 1}  {what}", fill=INK, font=font(17))
        pen.text((470, 210 + 32 * place), code, fill=INK, font=font(17))
    return picture


def panel(name: str, lamps: list[str]) -> Image.Image:
    picture, pen = sheet((520, 360), name)
    pen.rounded_rectangle((40, 36, 480, 292), 14, fill=(88, 92, 98), outline=INK, width=3)
    for place, text in enumerate(lamps):
        x, y = 70 + 215 * (place % 2), 66 + 120 * (place // 2)
        colour = {"H": (222, 170, 50), "S": (52, 110, 170), "P": (230, 230, 226), "V": (60, 140, 90)}.get(
            text[0], RED
        )
        pen.ellipse((x, y, x + 56, y + 56), fill=colour, outline="black", width=3)
        pen.rectangle((x - 8, y + 64, x + 186, y + 92), fill=(240, 240, 236))
        pen.text((x - 2, y + 68), text, fill="black", font=font(18))
    return picture


def table(name: str, rows: list[tuple[str, ...]]) -> Image.Image:
    picture, pen = sheet((560, 120 + 40 * len(rows)), name)
    for row, cells in enumerate(rows):
        y = 30 + 40 * row
        if not row:
            pen.rectangle((30, y - 4, 530, y + 34), fill=(232, 222, 204))
        for column, text in enumerate(cells):
            pen.text((42 + 190 * column, y + 4), text, fill=INK, font=font(20))
        pen.line((30, y + 35, 530, y + 35), fill=(140, 130, 120), width=1)
    return picture


def scene(colour: tuple[int, ...], sky: tuple[int, ...], number: int) -> Image.Image:
    """Mountains, a rope and a gondola, with the grain of a photograph."""
    dice = np.random.default_rng(100 + number)
    picture = Image.new("RGB", (520, 350), sky)
    pen = ImageDraw.Draw(picture)
    for layer in range(4):
        base = 190 + 44 * layer
        high, wide = abs(70 - 15 * layer), 70 + 30 * layer
        ridge = [
            (x, base - high * abs(math.sin(x / wide + number + layer)) - int(dice.integers(0, 14)))
            for x in range(-10, 540, 18)
        ]
        pen.polygon([(-10, 350), *ridge, (540, 350)], fill=tuple(int(value * (0.82 - 0.16 * layer)) for value in sky))
    pen.line((0, 70, 520, 120), fill=(30, 28, 26), width=4)
    x = 150 + 30 * (number % 5)
    y = 70 + 50 * x / 520
    pen.line((x, y, x, y + 36), fill=(30, 28, 26), width=5)
    pen.rounded_rectangle((x - 56, y + 36, x + 56, y + 128), 18, fill=colour, outline=(20, 20, 20), width=3)
    for side in (-46, 4):
        pen.rounded_rectangle(
            (x + side, y + 48, x + side + 42, y + 86), 6, fill=(204, 222, 232), outline=(40, 40, 40)
        )
    picture = picture.filter(ImageFilter.GaussianBlur(1.1))
    if sky == (226, 231, 238):
        pen = ImageDraw.Draw(picture)
        for flake in range(220):
            fx, fy = dice.integers(0, 520), dice.integers(0, 350)
            pen.ellipse((fx, fy, fx + 2 + flake % 3, fy + 2 + flake % 3), fill="white")
    grain = dice.normal(0, 7, (350, 520, 1))
    return Image.fromarray((np.asarray(picture) + grain).clip(0, 255).astype(np.uint8))


def scanned(title: str, rows: list[tuple[str, ...]], remark: str, number: int) -> Image.Image:
    """A typed sheet as an old scanner saw it."""
    page = Image.new("L", (1000, 1414), 250)
    pen = ImageDraw.Draw(page)
    pen.text((90, 190), f"Inspection sheet {number}", fill=20, font=font(44))
    pen.text((90, 270), f"{title}, autumn 1998", fill=20, font=font(28))
    for row, cells in enumerate(rows):
        for column, text in enumerate(cells):
            pen.text((90 + 290 * column, 350 + 52 * row), text, fill=25, font=font(27))
    pen.text((90, 640), remark, fill=25, font=font(26))
    pen.text((90, 740), "Signed: the works manager", fill=25, font=font(26))
    dice = np.random.default_rng(number)
    page = page.rotate(float(dice.uniform(-0.8, 0.8)), fillcolor=248).filter(ImageFilter.GaussianBlur(0.7))
    grain = dice.normal(0, 9, (1414, 1000))
    return Image.fromarray((np.asarray(page) + grain).clip(0, 255).astype(np.uint8))


def tag(picture: Image.Image, alt: str = "", kind: str = "PNG") -> str:
    target = io.BytesIO()
    if kind == "PNG":
        picture.quantize(64, dither=Image.Dither.NONE).save(target, kind, optimize=True)
    else:
        picture.save(target, kind, quality=82)
    data = base64.b64encode(target.getvalue()).decode()
    return f'<img alt="{alt}" src="data:image/{kind.lower()};base64,{data}">'


def book(name: str, title: str, intro: str, figures: list[tuple[str, str]]) -> None:
    """An HTML file with a picture on every sheet; `figures` are names of sheets and their tags."""
    body = "".join(
        f"<h2>Sheet {sheet}</h2><figure>{shown}"
        f"<figcaption>Figure {sheet}. Kept by the drawing office.</figcaption></figure>"
        for sheet, shown in figures
    )
    head = f"<!doctype html><html lang=en><head><title>{title}</title></head>"
    text = f"{head}<body><main><h1>{title}</h1><p>{intro}</p>{body}</main></body></html>\n"
    (PLACE / "documents" / name).write_text(text)


def main() -> None:
    (PLACE / "documents").mkdir(parents=True, exist_ok=True)
    (PLACE / "readings").mkdir(exist_ok=True)
    office = "Sheets are numbered as they came in. What they show stands on the sheets."
    book("towers.html", "Tower book", office, [(f"T{one[0]}", tag(tower(*one))) for one in TOWERS])
    numbered = enumerate(PARTS.items(), 1)
    book("parts.html", "Part drawings", office, [(f"P{n}", tag(part(name, rows, n))) for n, (name, rows) in numbered])
    numbered_panels = enumerate(PANELS.items(), 1)
    book("panels.html", "Panels and desks", office, [(f"C{n}", tag(panel(*one))) for n, one in numbered_panels])
    book(
        "tables.html", "Wall tables", office, [(f"W{n}", tag(table(*one))) for n, one in enumerate(TABLES.items(), 1)]
    )
    shown = [
        (f"F{n}", tag(scene(colour, sky, n), said if told else "", "JPEG"))
        for n, (said, colour, sky, told) in enumerate(SCENES, 1)
    ]
    book("photographs.html", "Photographs", "For posters and the yearly report.", shown)
    pages = [scanned(title, rows, remark, n) for n, (title, rows, remark) in enumerate(SHEETS, 1)]
    path = PLACE / "documents" / "inspection-1998.pdf"
    pages[0].save(path, "PDF", resolution=120, save_all=True, append_images=pages[1:], quality=60)
    readings(path)


def readings(path: Path) -> None:
    from doppio.core.formats.optical import EDITION
    from doppio.core.formats.page_reading import read_page

    data = path.read_bytes()
    read = {
        str(page): [line.to_json() for line in read_page(data, path.name, page)] for page in range(1, len(SHEETS) + 1)
    }
    body = {"edition": EDITION, "pages": read}
    (PLACE / "readings" / f"{path.name}.json").write_text(json.dumps(body, ensure_ascii=False, indent=0) + "\n")


if __name__ == "__main__":
    main()
