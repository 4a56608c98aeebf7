"""Pictures out of files that nobody vouches for: looked at before they are unpacked, and drawn anew."""

import base64
import binascii
import io
import math
import re
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any
from urllib.parse import unquote, unquote_to_bytes

from PIL import Image, ImageOps, UnidentifiedImageError

from doppio.core.errors import DocumentError
from doppio.core.text.document import DocumentBuilder

# What is smaller is a bullet or a line; what is larger is made to do harm. In pixels.
LEAST_SIDE, LEAST_AREA, MOST_AREA = 16, 1024, 40_000_000
LONGEST_SIDE = 1600
# With fewer colours it is a drawing, which is kept to the pixel.
DRAWN_COLOURS, QUALITY = 4096, 85
TURNED = "JPEG"
# Sides of a drawing of lines whose file says none.
LINES_SIDE = 800
FORMATS = ("PNG", "JPEG", "WEBP", "GIF", "BMP", "TIFF")
# For words of a drawing in a font that is not here, or in none: else they were not drawn at all. Debian's fontconfig
# brings these.
FONTS: dict[str, Any] = {
    "font_family": "DejaVu Sans", "serif_family": "DejaVu Serif", "sans_serif_family": "DejaVu Sans",
    "monospace_family": "DejaVu Sans Mono", "cursive_family": "DejaVu Sans", "fantasy_family": "DejaVu Sans",
}  # fmt: skip
# What a drawing of lines may run, or bring in from elsewhere.
_RUN, _INSIDE = ("script", "foreignObject"), ("#", "data:image/png", "data:image/jpeg", "data:image/webp")
_LENGTH = re.compile(r"\s*(\d+(?:\.\d+)?)\s*(px|pt|mm|cm|in)?\s*\Z")
_UNITS = {"px": 1.0, "pt": 96 / 72, "mm": 96 / 25.4, "cm": 96 / 2.54, "in": 96.0}
_DATA = re.compile(r"data:image/[a-z+.-]+(?:;charset=[\w-]+|;utf8)*(;base64)?,(.+)", re.DOTALL | re.IGNORECASE)
_LINES = re.compile(rb"\s*(?:\xef\xbb\xbf)?\s*<(?:\?xml|!--|!DOCTYPE\s+svg|svg)[\s>?-]", re.IGNORECASE)


class TooSmall(DocumentError):
    """A picture of too few pixels to show anything: a bullet, a line, a mark that counts visitors."""


@dataclass(frozen=True)
class Drawable:
    """A picture that can be drawn.

    width, height : in pixels, as it is drawn
    draw : gives it as PNG or JPEG
    of : what it is drawn from
    """

    width: int
    height: int
    draw: Callable[[], bytes]
    of: bytes


def drawable(data: bytes, name: str) -> Drawable:
    """A picture from the bytes of its file, of which only the head is read until it is drawn.

    Raises
    ------
    DocumentError
        If it is no picture, too small or too large, or moves; names what is right.
    """
    try:
        with Image.open(io.BytesIO(data), formats=FORMATS) as picture:
            width, height = picture.size
            frames = getattr(picture, "n_frames", 1)
            # Of other formats all would be unpacked for it.
            turned = picture.format == TURNED and picture.getexif().get(0x0112, 1) >= 5
    except MemoryError:
        raise
    except Image.DecompressionBombError as error:
        raise DocumentError(f"{name}: more than {MOST_AREA / 1e6:.0f} million pixels") from error
    except (UnidentifiedImageError, OSError, ValueError, SyntaxError) as error:
        raise DocumentError(f"{name}: no picture that can be read; {', '.join(FORMATS)} can") from error
    if width * height > MOST_AREA:
        raise DocumentError(
            f"{name}: {width:,} x {height:,} pixels are more than {MOST_AREA / 1e6:.0f} million; make it smaller"
        )
    if frames > 1:
        raise DocumentError(f"{name}: moves ({frames} frames); keep the one that matters")
    if min(width, height) < LEAST_SIDE or width * height < LEAST_AREA:
        raise TooSmall(f"{name}: {width} x {height} pixels are too few to show anything")
    size = (height, width) if turned else (width, height)
    shrink = min(1.0, LONGEST_SIDE / max(size))
    shown = (max(1, round(size[0] * shrink)), max(1, round(size[1] * shrink)))
    return Drawable(*shown, lambda: _drawn(data, name, shown), data)


def add_picture(builder: DocumentBuilder, data: bytes, alt: str) -> None:
    """Put a picture that a file carries in itself into a document; one that is refused is told there with the reason,
    and one that is too small to show anything is passed over."""
    name = f"picture {builder.pictures_met + 1}{f' ({alt.strip()})' if alt.strip() else ''}"
    try:
        found = drawing_of_lines(data, name) if _LINES.match(data) else drawable(data, name)
    except TooSmall:
        return
    except DocumentError as refused:
        builder.left_out(str(refused))
    else:
        builder.picture(found.width, found.height, found.draw, of=found.of, alt=alt)


def _drawn(data: bytes, name: str, size: tuple[int, int]) -> bytes:
    try:
        with Image.open(io.BytesIO(data), formats=FORMATS) as picture:
            return packed(ImageOps.exif_transpose(picture) if picture.format == TURNED else picture, size)
    except MemoryError:
        raise
    except Exception as error:
        raise DocumentError(f"{name}: a broken picture ({error})") from error


def svg_root(data: bytes, name: str) -> Any:
    """The first element of an SVG file; entities stay as they are, and nothing is looked up.

    Raises
    ------
    DocumentError
        If it is broken.
    """
    from lxml import etree

    safe = etree.XMLParser(resolve_entities=False, no_network=True, load_dtd=False, huge_tree=False)
    try:
        return etree.fromstring(data, safe)
    except (etree.XMLSyntaxError, ValueError) as error:
        raise DocumentError(f"{name}: a broken SVG ({error})") from error


def drawing_of_lines(data: bytes, name: str) -> Drawable:
    """A picture from an SVG file: nothing outside of the file is looked up, and nothing in it is run.

    Raises
    ------
    DocumentError
        If it is broken or too small.
    """
    from lxml import etree

    root = svg_root(data, name)
    if etree.QName(root).localname != "svg":
        raise DocumentError(f"{name}: no SVG; its first element is <{etree.QName(root).localname}>")
    for element in list(root.iter(etree.Element)):
        if etree.QName(element).localname in _RUN:
            if element.getparent() is not None:
                element.getparent().remove(element)
            continue
        for attribute, value in list(element.attrib.items()):
            if etree.QName(attribute).localname == "href" and not value.strip().startswith(_INSIDE):
                del element.attrib[attribute]
    wide, high = _svg_size(root)
    shrink = LONGEST_SIDE / max(wide, high) if max(wide, high) > LONGEST_SIDE else 1.0
    size = max(1, round(wide * shrink)), max(1, round(high * shrink))
    if min(size) < LEAST_SIDE or size[0] * size[1] < LEAST_AREA:
        raise TooSmall(f"{name}: {size[0]} x {size[1]} pixels are too few to show anything")
    text = etree.tostring(root, encoding="unicode")
    return Drawable(*size, lambda: _lines_drawn(text, name, size), f"{text}{FONTS}".encode())


def _svg_size(root: Any) -> tuple[float, float]:
    sides = [_LENGTH.match(str(root.get(side) or "")) for side in ("width", "height")]
    wide, high = (float(side[1]) * _UNITS[side[2] or "px"] if side else 0.0 for side in sides)
    box = [float(part) for part in re.findall(r"[-+.\deE]+", str(root.get("viewBox") or ""))[:4] if _is_number(part)]
    if len(box) == 4 and box[2] > 0 and box[3] > 0:
        if wide and not high:
            high = wide * box[3] / box[2]
        wide, high = wide or (high * box[2] / box[3] if high else box[2]), high or box[3]
    return wide or LINES_SIDE, high or LINES_SIDE


def _is_number(text: str) -> bool:
    try:
        return math.isfinite(float(text))
    except ValueError:
        return False


def _lines_drawn(text: str, name: str, size: tuple[int, int]) -> bytes:
    import resvg_py

    try:
        drawn = resvg_py.svg_to_bytes(svg_string=text, width=size[0], height=size[1], background="white", **FONTS)
        with Image.open(io.BytesIO(bytes(drawn)), formats=("PNG",)) as picture:
            return packed(picture, size)
    except MemoryError:
        raise
    except Exception as error:
        raise DocumentError(f"{name}: a broken SVG ({error})") from error


def packed(picture: Image.Image, size: tuple[int, int]) -> bytes:
    """A picture of this size: a drawing as PNG, a photograph as JPEG; nothing else of its file comes along."""
    solid = picture.convert("RGBA")
    paper = Image.new("RGBA", solid.size, "white")
    paper.alpha_composite(solid)
    shown = paper.convert("RGB")
    few = shown.getcolors(DRAWN_COLOURS) is not None
    if shown.size != size:
        shown = shown.resize(size, Image.Resampling.LANCZOS)
    target = io.BytesIO()
    if few:
        shown.save(target, "PNG", optimize=True)
    else:
        shown.save(target, "JPEG", quality=QUALITY)
    return target.getvalue()


def carried(source: str) -> bytes | None:
    """The bytes of a picture that an address carries in itself; None where it leads elsewhere."""
    found = _DATA.match(source)
    if found is None:
        return None
    try:
        return base64.b64decode(unquote(found[2]), validate=False) if found[1] else unquote_to_bytes(found[2])
    except (binascii.Error, ValueError):
        return None
