"""A picture as a document of its own: what its file says of it, the picture, and the words that can be read on it."""

import io
from collections.abc import Sequence
from pathlib import PurePosixPath

from PIL import Image

from doppio.core.formats.drawing import Drawable, drawable, drawing_of_lines, svg_root
from doppio.core.formats.optical import READ_CONFIDENCE, ReadLine, confidence_of
from doppio.core.formats.scanned import Cells, laid_out
from doppio.core.formats.table import row_text
from doppio.core.text.document import HEADING, PARAGRAPH, ROW, Document, DocumentBuilder

SVG = ".svg"
ENDINGS = (".png", ".jpg", ".jpeg", ".webp", SVG)
# Where files say what they show: keys of PNG's texts, numbers of EXIF's.
_TITLES, _TOLD = ("Title", "XPTitle"), ("Description", "Comment")
_EXIF_TITLE = 0x010E


def picture_of(data: bytes, name: str) -> Drawable:
    """The picture that a file is.

    Raises
    ------
    DocumentError
        As `drawable` does.
    """
    return drawing_of_lines(data, name) if name.lower().endswith(SVG) else drawable(data, name)


def read_picture_file(data: bytes, identity: str, lines: Sequence[ReadLine]) -> Document:
    """A document from a picture file; `lines` were read off it.

    Raises
    ------
    DocumentError
        If it is no picture, or one that is refused; see `drawable`.
    """
    shown = picture_of(data, identity)
    title, told = _said(data, identity)
    builder = DocumentBuilder()
    builder.add(HEADING, title or _title(identity), 1)
    builder.picture(shown.width, shown.height, shown.draw, alt=told, of=shown.of)
    prose: list[str] = []
    paragraph = 0

    def flush() -> None:
        builder.add(PARAGRAPH, " ".join(prose))
        prose.clear()

    for piece in laid_out(lines, shown.width / shown.height):
        if isinstance(piece, Cells):
            flush()
            header, *rows = piece.rows
            for row in rows:
                builder.add(ROW, row_text(header, row))
            continue
        if piece.paragraph != paragraph:
            flush()
        paragraph = piece.paragraph
        prose.append(piece.line.text)
    flush()
    metadata = {READ_CONFIDENCE: round(confidence_of(lines), 3)} if lines else {}
    return builder.build(identity, title or None, metadata)


def _title(identity: str) -> str:
    return PurePosixPath(identity).stem.replace("-", " ").replace("_", " ").strip() or identity


def _said(data: bytes, name: str) -> tuple[str, str]:
    """The title and the description that a file carries; empty where it has none."""
    if name.lower().endswith(SVG):
        return _svg_said(data, name)
    with Image.open(io.BytesIO(data)) as picture:
        told = {key: value for key, value in picture.info.items() if isinstance(value, str)}
        exif = str(picture.getexif().get(_EXIF_TITLE, ""))
    title = next((told[key] for key in _TITLES if told.get(key)), "")
    return " ".join(title.split()), " ".join(
        (next((told[key] for key in _TOLD if told.get(key)), "") or exif).split()
    )


def _svg_said(data: bytes, name: str) -> tuple[str, str]:
    root = svg_root(data, name)
    found = []
    for tag in ("title", "desc"):
        own = root.find(f"{{http://www.w3.org/2000/svg}}{tag}")
        own = root.find(tag) if own is None else own
        found.append("" if own is None else " ".join("".join(own.itertext()).split()))
    return found[0], found[1]
