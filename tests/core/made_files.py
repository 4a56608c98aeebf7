"""Small PDF and DOCX files and pictures for tests, the PDF written out by hand."""

import base64
import io
import zlib

import docx
from PIL import Image

RED, BLUE, GREEN = (200, 30, 30), (20, 40, 160), (30, 120, 60)


def make_picture(colour, size=(120, 80), kind="PNG", **more):
    """A picture of one colour with a darker left half."""
    picture = Image.new("RGB", size, colour)
    picture.paste(tuple(value // 2 for value in colour), (0, 0, size[0] // 2, size[1]))
    target = io.BytesIO()
    picture.save(target, kind, **more)
    return target.getvalue()


def inline_picture(data, alt="", kind="png"):
    """A tag of HTML that carries a picture in itself."""
    return f'<img src="data:image/{kind};base64,{base64.b64encode(data).decode()}" alt="{alt}">'


def make_docx(paragraphs, tables=()):
    """A DOCX file of (style, text) paragraphs and tables as lists of rows."""
    file = docx.Document()
    for style, text in paragraphs:
        file.add_paragraph(text, style=style)
    for rows in tables:
        table = file.add_table(rows=len(rows), cols=len(rows[0]))
        for row, cells in zip(table.rows, rows, strict=True):
            for cell, text in zip(row.cells, cells, strict=True):
                cell.text = text
    target = io.BytesIO()
    file.save(target)
    return target.getvalue()


def make_pdf(pages, *, picture=False, encrypt=False):
    """A PDF file: a page is a list of lines, each a text or (text, size, bold, x, y).

    Coordinates are points from the lower left corner of a page of 595 by 842. Plain lines are set in 11 points from
    the top down. Drawn lines are ("rule", x0, y0, x1, y1).
    """
    objects = ["<< /Type /Catalog /Pages 2 0 R >>", ""]
    fonts = "<< /F1 3 0 R /F2 4 0 R >>"
    for name in ("Helvetica", "Helvetica-Bold"):
        objects.append(f"<< /Type /Font /Subtype /Type1 /BaseFont /{name} /Encoding /WinAnsiEncoding >>")
    kids = []
    for lines in pages:
        content, y = [], 780.0
        for line in lines:
            if line[0] == "rule":
                _, x0, y0, x1, y1 = line
                content.append(f"{x0} {y0} m {x1} {y1} l S")
                continue
            text, size, bold, x, at = line if isinstance(line, tuple) else (line, 11, False, 72, y)
            shown = text.replace("\\", "\\\\").replace("(", "\\(").replace(")", "\\)")
            content.append(f"BT /F{2 if bold else 1} {size} Tf {x} {at} Td ({shown}) Tj ET")
            y = at - 14
        if picture:
            content.append("q 400 0 0 400 90 200 cm /P Do Q")
        stream = "\n".join(content)
        kids.append(len(objects) + 1)
        resources = f"<< /Font {fonts}" + (f" /XObject << /P {len(objects) + 3} 0 R >>" if picture else "") + " >>"
        objects.append(
            f"<< /Type /Page /Parent 2 0 R /MediaBox [0 0 595 842] /Resources {resources} /Contents "
            f"{len(objects) + 2} 0 R >>"
        )
        objects.append(f"<< /Length {len(stream)} >>\nstream\n{stream}\nendstream")
        if picture:
            pixels = zlib.compress(bytes(64)).hex()
            objects.append(
                "<< /Type /XObject /Subtype /Image /Width 8 /Height 8 /ColorSpace /DeviceGray /BitsPerComponent 8 "
                f"/Filter [/ASCIIHexDecode /FlateDecode] /Length {len(pixels) + 1} >>\nstream\n{pixels}>\nendstream"
            )
    listed = " ".join(f"{kid} 0 R" for kid in kids)
    objects[1] = f"<< /Type /Pages /Kids [{listed}] /Count {len(kids)} >>"
    body = b"%PDF-1.4\n"
    offsets = []
    for number, text in enumerate(objects, 1):
        offsets.append(len(body))
        body += f"{number} 0 obj\n{text}\nendobj\n".encode("cp1252")
    table = "".join(f"{offset:010d} 00000 n \n" for offset in offsets)
    locked = " /Encrypt << /Filter /Standard /V 9 /R 9 /O (x) /U (x) /P -4 >> /ID [(a) (a)]" if encrypt else ""
    trailer = f"<< /Size {len(objects) + 1} /Root 1 0 R{locked} >>"
    end = (
        f"xref\n0 {len(objects) + 1}\n0000000000 65535 f \n{table}trailer\n{trailer}\nstartxref\n{len(body)}\n%%EOF\n"
    )
    return body + end.encode()
