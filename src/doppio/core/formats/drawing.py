"""Pictures out of files that nobody vouches for: looked at before they are unpacked, and drawn anew."""

import base64
import binascii
import io
import re
from collections.abc import Callable
from dataclasses import dataclass

from PIL import Image, ImageOps, UnidentifiedImageError

from doppio.core.errors import DocumentError

# What is smaller is a bullet or a line; what is larger is made to do harm. In pixels.
LEAST_SIDE, LEAST_AREA, MOST_AREA = 16, 1024, 40_000_000
LONGEST_SIDE = 1600
# With fewer colours it is a drawing, which is kept to the pixel.
DRAWN_COLOURS, QUALITY = 4096, 85
TURNED = "JPEG"
FORMATS = ("PNG", "JPEG", "WEBP", "GIF", "BMP", "TIFF")
_DATA = re.compile(r"data:image/[a-z+.-]+;base64,(.+)", re.DOTALL)


@dataclass(frozen=True)
class Drawable:
    """A picture that can be drawn.

    width, height : in pixels, as it is drawn
    draw : gives it as PNG or JPEG
    """

    width: int
    height: int
    draw: Callable[[], bytes]


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
        raise DocumentError(f"{name}: {width} x {height} pixels are too few to show anything")
    size = (height, width) if turned else (width, height)
    shrink = min(1.0, LONGEST_SIDE / max(size))
    shown = (max(1, round(size[0] * shrink)), max(1, round(size[1] * shrink)))
    return Drawable(*shown, lambda: _drawn(data, name, shown))


def _drawn(data: bytes, name: str, size: tuple[int, int]) -> bytes:
    try:
        with Image.open(io.BytesIO(data), formats=FORMATS) as picture:
            return packed(ImageOps.exif_transpose(picture) if picture.format == TURNED else picture, size)
    except MemoryError:
        raise
    except Exception as error:
        raise DocumentError(f"{name}: a broken picture ({error})") from error


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
        return base64.b64decode(found[1], validate=False)
    except (binascii.Error, ValueError):
        return None
