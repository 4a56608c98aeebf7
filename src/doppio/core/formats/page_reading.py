"""Which words stand on a page that is a picture? It is drawn, and read by the optical reader."""

import io

from PIL import Image

from doppio.core.errors import DocumentError
from doppio.core.formats.optical import READ_SIDE, ReadLine, read_lines
from doppio.core.formats.picture_file import picture_of

PDF = ".pdf"


def read_page(data: bytes, name: str, number: int) -> list[ReadLine]:
    """The lines of a page of a PDF file, by its number from 1, or of a picture file, whose only page is 1.

    Raises
    ------
    DocumentError
        If it cannot be drawn.
    """
    if name.lower().endswith(PDF):
        from doppio.core.formats.pdf import draw_page

        return read_lines(draw_page(data, name, number, READ_SIDE))
    return read_picture(picture_of(data, name).draw())


def read_picture(drawn: bytes) -> list[ReadLine]:
    """The lines of a picture that was drawn by us.

    Raises
    ------
    DocumentError
        If it is none.
    """
    try:
        with Image.open(io.BytesIO(drawn), formats=("PNG", "JPEG")) as picture:
            return read_lines(picture)
    except OSError as error:
        raise DocumentError(f"a picture that cannot be read ({error})") from error
