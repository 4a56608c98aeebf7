"""The manuals that the scorer learns from: documentation in Debian packages, fetched and read as documents."""

import json
import subprocess
import tempfile
from collections.abc import Collection, Iterator
from dataclasses import dataclass, replace
from pathlib import Path

from lxml import etree

from doppio.core.errors import DocumentError
from doppio.core.formats.documents import read_file
from doppio.core.text.document import Document

MALLARD = "{http://projectmallard.org/1.0/}"
POD_TO_HTML = """
use Pod::Simple::XHTML;
for my $file (@ARGV) {
    my $parser = Pod::Simple::XHTML->new; my $html; $parser->html_header(''); $parser->html_footer('');
    $parser->index(0); $parser->output_string(\\$html);
    $parser->parse_file($file); open my $out, '>:utf8', "$file.html" or die $!; print $out $html; close $out;
}
"""


@dataclass(frozen=True)
class Manual:
    """Documentation in a Debian package.

    paths : globs below the package's root
    fold : manuals of one fold are left out together when the scorer is judged
    """

    package: str
    paths: tuple[str, ...]
    licence: str
    fold: int

    @property
    def title(self) -> str:
        """What a page is called whose own title is asked."""
        words = [word for word in self.package.split("-") if word not in ("doc", "docs", "html", "help", "en", "us")]
        return f"{' '.join(words)} manual"


_DOC = "usr/share/doc"
MANUALS = (
    Manual("perl-doc", ("usr/share/perl/*/pod/perl[!5]*.pod",), "Artistic-1.0-Perl or GPL-1.0-or-later", 0),
    Manual("r-doc-html", ("usr/share/R/doc/manual/*.html",), "GPL-2.0-or-later", 2),
    Manual("zsh-doc", (f"{_DOC}/zsh-common/html/*.html",), "MIT-like (Zsh licence)", 1),
    Manual("exim4-doc-html", (f"{_DOC}/exim4-doc-html/spec_html/*.html",), "GPL-2.0-or-later", 2),
    Manual("maxima-doc", (f"{_DOC}/maxima-doc/html/*.html",), "GPL-2.0-or-later", 0),
    Manual("octave-doc", (f"{_DOC}/octave/octave.html/*.html",), "GPL-3.0-or-later", 0),
    Manual("wireshark-doc", (f"{_DOC}/wireshark/ws*g_html_chunked/*.html",), "GPL-2.0-or-later", 1),
    Manual("libreoffice-help-en-us", ("usr/share/libreoffice/help/en-US/text/**/*.html",), "MPL-2.0", 1),
    Manual("gimp-help-en", ("usr/share/gimp/2.0/help/en/*.html",), "GFDL-1.2-or-later", 2),
    Manual("gnome-user-docs", ("usr/share/help/C/*/*.page",), "CC-BY-3.0", 2),
    Manual("privoxy", (f"{_DOC}/privoxy/user-manual/*.html", f"{_DOC}/privoxy/faq/*.html"), "GPL-2.0-or-later", 2),
    Manual("postfix-doc", (f"{_DOC}/postfix/html/*README*.html",), "IPL-1.0 or EPL-2.0", 0),
    Manual("fetchmail", (f"{_DOC}/fetchmail/*.html",), "GPL-2.0", 1),
    Manual("sqlite3-doc", (f"{_DOC}/sqlite3/*.html",), "public domain", 1),
    Manual("valgrind", (f"{_DOC}/valgrind/html/*.html",), "GFDL-1.2-or-later", 2),
    Manual("postgresql-doc-15", (f"{_DOC}/postgresql-doc-15/html/*.html",), "PostgreSQL", 2),
    Manual("apache2-doc", (f"{_DOC}/apache2-doc/manual/en/**/*.html*",), "Apache-2.0", 0),
)
FOLDS = 1 + max(manual.fold for manual in MANUALS)


def fetch(folder: Path, packages: Collection[str] | None = None) -> dict[str, str]:
    """Fetch and unpack packages below `folder`, all where none are named; returns the version of each.

    Raises
    ------
    RuntimeError
        If one cannot be fetched; says what the package tool said.
    """
    folder.mkdir(parents=True, exist_ok=True)
    wanted = [one for one in MANUALS if packages is None or one.package in packages]
    for manual in wanted:
        root = folder / manual.package
        if root.exists():
            continue
        with tempfile.TemporaryDirectory(dir=folder) as draft:
            _run(["apt-get", "download", "-q", manual.package], Path(draft))
            archive = next(Path(draft).glob("*.deb"))
            unpacked = Path(draft) / "root"
            _run(["dpkg-deb", "-x", archive.name, str(unpacked)], Path(draft))
            version = subprocess.check_output(["dpkg-deb", "-f", archive, "Version"], text=True).strip()
            (unpacked / "version.json").write_text(json.dumps(version))
            unpacked.rename(root)
    return {m.package: json.loads((folder / m.package / "version.json").read_text()) for m in wanted}


def read(manual: Manual, folder: Path) -> Iterator[Document]:
    """The documents of a manual, in the order of their files' names."""
    root = folder / manual.package
    files = sorted({file for pattern in manual.paths for file in root.glob(pattern) if file.is_file()})
    if files and files[0].suffix == ".pod":
        _run(["perl", "-e", POD_TO_HTML, *map(str, files)], folder)
        files = [file.with_name(file.name + ".html") for file in files]
    for file in files:
        html = _mallard(file) if file.suffix == ".page" else file.read_bytes()
        try:
            for document in read_file(html, f"{file.stem}.html"):
                # Every page of a Perl manual begins with a heading of this name.
                named = document.title == "NAME"
                yield replace(document, title=file.stem.removesuffix(".pod")) if named else document
        except DocumentError:
            continue


def _mallard(file: Path) -> bytes:
    """A help page of the open Mallard format as HTML: titles, paragraphs and list items."""
    parts: list[str] = []

    def walk(node: etree._Element, depth: int) -> None:
        for child in node.iterchildren(tag=etree.Element):
            name = str(child.tag).removeprefix(MALLARD)
            words = " ".join(" ".join(child.itertext()).split())
            if name == "title":
                parts.append(f"<h{depth}>{_escaped(words)}</h{depth}>")
            elif name in ("p", "item") and not any(str(inner.tag) == f"{MALLARD}p" for inner in child):
                parts.append(f"<p>{_escaped(words)}</p>")
            elif name not in ("info", "links"):
                walk(child, min(depth + (name == "section"), 6))

    parser = etree.XMLParser(resolve_entities=False, no_network=True, load_dtd=False)
    walk(etree.parse(str(file), parser).getroot(), 1)
    return f"<html><body>{''.join(parts)}</body></html>".encode()


def _escaped(text: str) -> str:
    return text.replace("&", "&amp;").replace("<", "&lt;")


def _run(command: list[str], folder: Path) -> None:
    done = subprocess.run(command, cwd=folder, capture_output=True, text=True)
    if done.returncode:
        raise RuntimeError(f"{' '.join(command[:3])}: {done.stderr.strip()[-400:]}")
