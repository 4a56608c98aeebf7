"""Make the demo's PDF and DOCX files from the Markdown in `demo/make/sources`.

    .venv/bin/python demo/make/files.py

The files are kept in `demo/documents`; this is run again only when a source changes. PDF is printed by Chromium, with
running headers and footers, DOCX is written with python-docx. The first lines of a source say where its file goes.
"""

import shutil
import subprocess
import sys
import tempfile
from datetime import datetime
from pathlib import Path

import docx
import yaml
from markdown_it import MarkdownIt

HERE = Path(__file__).resolve().parent
DOCUMENTS = HERE.parent / "documents"
STYLE = """
@page { size: A4; margin: 26mm 22mm 24mm 22mm;
  @top-left { content: "%(head)s"; font: 8.5pt sans-serif; color: #555 }
  @top-right { content: "%(code)s"; font: 8.5pt sans-serif; color: #555 }
  @bottom-left { content: "Brackenhorn Ropeways"; font: 8.5pt sans-serif; color: #555 }
  @bottom-right { content: "Page " counter(page) " of " counter(pages); font: 8.5pt sans-serif; color: #555 } }
body { font: 10.5pt/1.42 serif; }
h1 { font: bold 21pt sans-serif; margin: 0 0 10pt } h2 { font: bold 14.5pt sans-serif; margin: 18pt 0 6pt }
h3 { font: bold 11.5pt sans-serif; margin: 12pt 0 4pt } p { margin: 0 0 7pt; text-align: justify; hyphens: manual }
table { border-collapse: collapse; margin: 6pt 0 10pt; width: 100%% }
td, th { border: 0.6pt solid #444; padding: 2.5pt 5pt; font: 9.5pt/1.3 sans-serif; text-align: left }
h1, h2, h3 { break-after: avoid } tr { break-inside: avoid }
"""


def main() -> None:
    for source in sorted((HERE / "sources").glob("*.md")):
        _, head, body = source.read_text(encoding="utf-8").split("---\n", 2)
        settings = yaml.safe_load(head)
        target = DOCUMENTS / settings["file"]
        target.parent.mkdir(parents=True, exist_ok=True)
        make = write_pdf if target.suffix == ".pdf" else write_docx
        make(body, settings, target)
        print(f"{target.relative_to(DOCUMENTS)}  {target.stat().st_size // 1024} KiB")


def write_pdf(body: str, settings: dict, target: Path) -> None:
    chromium = shutil.which("chromium") or sys.exit("chromium is not installed")
    inside = MarkdownIt("commonmark").enable("table").render(body)
    style = STYLE % {"head": settings["title"], "code": settings["code"]}
    page = f'<!doctype html><meta charset="utf-8"><title>{settings["title"]}</title><style>{style}</style>{inside}'
    with tempfile.TemporaryDirectory() as folder:
        html = Path(folder) / "page.html"
        html.write_text(page, encoding="utf-8")
        options = [
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--no-pdf-header-footer",
            f"--user-data-dir={folder}/u",
        ]
        subprocess.run(
            [chromium, *options, f"--print-to-pdf={target}", html.as_uri()],
            check=True,
            capture_output=True,
            timeout=120,
        )


def write_docx(body: str, settings: dict, target: Path) -> None:
    file = docx.Document()
    file.core_properties.title = settings["title"]
    file.core_properties.author = "Brackenhorn Ropeways"
    file.core_properties.subject = settings["code"]
    file.core_properties.created = file.core_properties.modified = datetime(2025, 11, 3, 8, 0)
    file.sections[0].header.paragraphs[0].text = f"{settings['title']}  {settings['code']}"
    tokens = MarkdownIt("commonmark").enable("table").parse(body)
    lists: list[str] = []
    rows: list[list[str]] = []
    style = ""
    in_cell = False
    for token in tokens:
        if token.type == "heading_open":
            level = int(token.tag[1])
            style = "Title" if level == 1 else f"Heading {level - 1}"
        elif token.type in ("bullet_list_open", "ordered_list_open"):
            lists.append("List Bullet" if token.type.startswith("bullet") else "List Number")
        elif token.type in ("bullet_list_close", "ordered_list_close"):
            lists.pop()
        elif token.type == "tr_open":
            rows.append([])
        elif token.type in ("th_open", "td_open", "th_close", "td_close"):
            in_cell = token.type.endswith("open")
        elif token.type == "table_close":
            table = file.add_table(rows=len(rows), cols=len(rows[0]), style="Table Grid")
            for row, cells in zip(table.rows, rows, strict=True):
                for cell, text in zip(row.cells, cells, strict=True):
                    cell.text = text
            rows = []
        elif token.type == "inline":
            text = "".join(" " if part.type == "softbreak" else part.content for part in token.children or [])
            if in_cell:
                rows[-1].append(text)
            else:
                file.add_paragraph(text, style=style or (lists[-1] if lists else "Normal"))
            style = ""
    file.save(str(target))


if __name__ == "__main__":
    main()
