"""Made-up pictures with captions, as many as are wanted: drawings, gauges, plans and scenes like photographs."""

from dataclasses import dataclass

import numpy as np
from PIL import Image, ImageDraw, ImageFilter, ImageFont

SIDE = (320, 240)
COLOURS = {
    "red": (190, 40, 40), "blue": (40, 80, 180), "green": (40, 140, 70), "yellow": (225, 185, 40),
    "grey": (120, 120, 125), "brown": (120, 80, 50), "black": (30, 30, 30), "orange": (230, 120, 30),
}  # fmt: skip
PLACES = ("the valley station", "the summit station", "the garage", "the ridge", "the forest span", "the ravine")
WEATHER = {
    "in snow": (235, 240, 248),
    "in fog": (200, 205, 208),
    "in sun": (170, 205, 240),
    "at dusk": (120, 90, 120),
}


@dataclass(frozen=True)
class Made:
    """A picture, what it shows, and whether words stand on it."""

    picture: Image.Image
    caption: str
    words: str = ""


def made(number: int) -> Made:
    """The picture with this number; the same number gives the same one."""
    dice = np.random.default_rng([20_26, number])
    return KINDS[number % len(KINDS)](dice)


def _sheet(dice, paper=(250, 249, 244)):
    picture = Image.new("RGB", SIDE, paper)
    return picture, ImageDraw.Draw(picture)


def _pick(dice, among):
    names = list(among)
    return names[int(dice.integers(len(names)))]


def _font(size):
    return ImageFont.load_default(size)


def _grain(picture, dice, strength=9):
    grain = dice.normal(0, strength, (picture.height, picture.width, 1))
    return Image.fromarray((np.asarray(picture) + grain).clip(0, 255).astype(np.uint8))


def _cabin(dice):
    """A gondola on its rope before mountains."""
    weather, colour, place = _pick(dice, WEATHER), _pick(dice, COLOURS), _pick(dice, PLACES)
    picture, pen = _sheet(dice, WEATHER[weather])
    for layer in range(3):
        base = 130 + 35 * layer + dice.integers(-12, 12)
        ridge = [(x, base - int(dice.integers(0, 70 - 18 * layer))) for x in range(0, 361, 40)]
        shade = tuple(int(value * (0.75 - 0.17 * layer)) for value in WEATHER[weather])
        pen.polygon([(0, 240), *ridge, (360, 240)], fill=shade)
    left, right = int(dice.integers(20, 90)), int(dice.integers(20, 90))
    pen.line((0, left, 320, right), fill=(30, 30, 30), width=3)
    for at in sorted(dice.integers(40, 280, int(dice.integers(1, 4))).tolist()):
        y = left + (right - left) * at / 320
        pen.line((at, y, at, y + 24), fill=(20, 20, 20), width=3)
        wide, high = int(dice.integers(22, 34)), int(dice.integers(26, 40))
        pen.rounded_rectangle((at - wide, y + 24, at + wide, y + 24 + high), 8, fill=COLOURS[colour], outline="black")
        pen.rectangle((at - wide + 6, y + 30, at + wide - 6, y + 44), fill=(210, 230, 240))
    return Made(
        _grain(picture.filter(ImageFilter.GaussianBlur(0.8)), dice), f"A {colour} gondola {weather} near {place}"
    )


def _tower(dice):
    """A tower from the side, with measures."""
    number, height = int(dice.integers(1, 40)), int(dice.integers(9, 60))
    picture, pen = _sheet(dice)
    top, foot = int(dice.integers(30, 70)), int(dice.integers(190, 215))
    middle, spread = int(dice.integers(110, 210)), int(dice.integers(20, 50))
    pen.line((middle - spread, foot, middle - 8, top), fill=(40, 40, 40), width=3)
    pen.line((middle + spread, foot, middle + 8, top), fill=(40, 40, 40), width=3)
    for step in range(int(dice.integers(4, 9))):
        y = top + (foot - top) * step / 8
        half = 8 + (spread - 8) * step / 8
        pen.line((middle - half, y, middle + half, y + 12), fill=(70, 70, 70), width=2)
    arm = int(dice.integers(40, 80))
    pen.line((middle - arm, top, middle + arm, top), fill=(20, 20, 20), width=6)
    for side in (-arm, arm):
        for wheel in range(int(dice.integers(2, 6))):
            x = middle + side + 14 * wheel - 28
            pen.ellipse((x, top - 14, x + 12, top - 2), outline=(20, 20, 20), width=2)
    words = f"Tower {number}  {height} m"
    pen.text((20, 216), words, fill=(20, 20, 20), font=_font(18))
    return Made(picture, f"Side view of tower {number} with its sheave assemblies, {height} metres high", words)


def _gauge(dice):
    """A dial with a needle."""
    what = _pick(dice, ("wind speed", "rope tension", "oil pressure", "brake pressure", "motor current"))
    unit = {"wind speed": "m/s", "rope tension": "kN", "oil pressure": "bar", "brake pressure": "bar"}.get(what, "A")
    colour = _pick(dice, COLOURS)
    picture, pen = _sheet(dice, (60, 62, 66))
    x, y, r = int(dice.integers(120, 200)), int(dice.integers(110, 135)), int(dice.integers(75, 100))
    pen.ellipse((x - r, y - r, x + r, y + r), fill=(245, 245, 240), outline=COLOURS[colour], width=6)
    for tick in range(11):
        angle = np.pi * (0.8 + 1.4 * tick / 10)
        pen.line((x + 0.8 * r * np.cos(angle), y + 0.8 * r * np.sin(angle),
                  x + 0.93 * r * np.cos(angle), y + 0.93 * r * np.sin(angle)), fill="black", width=2)  # fmt: skip
    angle = np.pi * (0.8 + 1.4 * float(dice.random()))
    pen.line((x, y, x + 0.72 * r * np.cos(angle), y + 0.72 * r * np.sin(angle)), fill=(180, 20, 20), width=4)
    pen.text((x - 34, y + 22), f"{what}", fill="black", font=_font(13))
    pen.text((x - 12, y + 42), unit, fill="black", font=_font(14))
    return Made(_grain(picture, dice, 6), f"Dial of the {what} gauge with a {colour} rim", f"{what} {unit}")


def _chart(dice):
    """Columns over months."""
    what, colour = (
        _pick(dice, ("passengers", "stops for wind", "rope inspections", "hours of operation")),
        _pick(dice, COLOURS),
    )
    year = int(dice.integers(2008, 2027))
    picture, pen = _sheet(dice)
    pen.line((40, 20, 40, 200, 300, 200), fill="black", width=2)
    heights = dice.integers(15, 160, 12)
    for month, high in enumerate(heights.tolist()):
        pen.rectangle((48 + 21 * month, 200 - high, 62 + 21 * month, 200), fill=COLOURS[colour])
    words = f"{what} {year}"
    pen.text((60, 212), words, fill="black", font=_font(17))
    return Made(picture, f"Bar chart of {what} by month in {year}", words)


def _plan(dice):
    """The line from above."""
    name, place = _pick(dice, "ABCDEFGH"), _pick(dice, PLACES)
    picture, pen = _sheet(dice, (226, 236, 220))
    for _ in range(int(dice.integers(5, 10))):
        x, y, r = dice.integers(0, 320), dice.integers(0, 240), dice.integers(26, 60)
        for ring in range(3):
            pen.ellipse(
                (x - r + 9 * ring, y - r + 6 * ring, x + r - 9 * ring, y + r - 6 * ring), outline=(150, 170, 140)
            )
    points = [(20, int(dice.integers(150, 220)))]
    for at in range(1, int(dice.integers(4, 8))):
        points.append((20 + 42 * at, int(np.clip(points[-1][1] - dice.integers(-10, 40), 20, 220))))
    pen.line(points, fill=(170, 30, 30), width=4)
    for x, y in points:
        pen.rectangle((x - 5, y - 5, x + 5, y + 5), fill="white", outline="black", width=2)
    pen.text((points[-1][0] - 24, max(points[-1][1] - 26, 2)), f"Line {name}", fill="black", font=_font(16))
    return Made(picture, f"Map of line {name} from the valley up to {place}", f"Line {name}")


def _part(dice):
    """An exploded drawing with numbers."""
    what = _pick(dice, ("grip", "sheave", "brake calliper", "rope clamp", "door hinge", "tension weight"))
    picture, pen = _sheet(dice)
    for number in range(1, int(dice.integers(4, 8))):
        x, y = int(dice.integers(30, 270)), int(dice.integers(20, 170))
        wide, high = dice.integers(16, 60, 2).tolist()
        shape = _pick(dice, ("rectangle", "ellipse", "rounded"))
        box = (x, y, x + wide, y + high)
        {"rectangle": pen.rectangle, "ellipse": pen.ellipse}.get(shape, pen.rectangle)(box, outline="black", width=2)
        pen.line((x + wide, y, min(x + wide + 16, 305), max(y - 12, 4)), fill="black")
        pen.text((min(x + wide + 16, 305), max(y - 22, 2)), str(number), fill="black", font=_font(13))
    code = f"{int(dice.integers(1000, 9999))}-{_pick(dice, 'ABCDE')}"
    pen.text((20, 208), f"{what} {code}", fill="black", font=_font(18))
    return Made(picture, f"Exploded view of the {what}, part {code}", f"{what} {code}")


KINDS = (_cabin, _tower, _gauge, _chart, _plan, _part)
EDITS = {
    "the same, in another file": lambda one, dice: one,
    "cropped to 70 of 100": lambda one, dice: _cropped(one, dice, 0.84),
    "half the size": lambda one, dice: one.resize((one.width // 2, one.height // 2), Image.Resampling.BILINEAR),
    "other colours, darker": lambda one, dice: Image.fromarray(
        (np.asarray(one)[..., [1, 2, 0]] * float(dice.uniform(0.6, 0.9))).astype(np.uint8)
    ),
    "cropped, smaller and darker": lambda one, dice: _cropped(one, dice, 0.9)
    .resize((240, 180)).point(lambda value: int(value * 0.8)),
}  # fmt: skip


def _cropped(one, dice, side):
    wide, high = int(one.width * side), int(one.height * side)
    left, top = int(dice.integers(0, one.width - wide + 1)), int(dice.integers(0, one.height - high + 1))
    return one.crop((left, top, left + wide, top + high))
