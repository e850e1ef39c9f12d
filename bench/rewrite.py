"""Rewriting a site of 1,000 pages with 10 pictures each, against one pass of Python's own HTML parser over the same pages."""

from __future__ import annotations

import time
from html.parser import HTMLParser
from pathlib import Path

from tests.support.manifests import named

from young_prism.core.html.rewrite.document import Document
from young_prism.core.html.rewrite.options import RewriteOptions
from young_prism.core.html.rewrite.page import rewrite_page
from young_prism.core.html.rewrite.site import SiteIndex

PAGES, PICTURES = 1000, 10


def page(number: int) -> str:
    """Return a page of about 20 kB with ten pictures in a site of 2,000."""
    figures = "".join(
        f'\n    <figure class="wide">\n      <img src="../img/{(number * 7 + at * 31) % 2000:04d}.jpg" alt="A picture &amp; more">\n'
        f"      <figcaption>Below it</figcaption>\n    </figure>\n{'<p class=text>Words <b>and</b> more words.</p>' * 40}"
        for at in range(PICTURES)
    )
    return f"<!doctype html>\n<html lang=en>\n<meta charset=utf-8>\n<title>{number}</title>\n<main>{figures}\n</main>\n"


def main() -> None:
    """Print seconds and the ratio."""
    paths = [f"{number:04d}.jpg" for number in range(2000)]
    site = SiteIndex(
        frozenset(f"img/{path}" for path in paths),
        {f"img/{path}": path for path in paths},
        {path: named(path) for path in paths},
        "pictures",
    )
    texts = [page(number).encode() for number in range(PAGES)]
    began = time.process_time()
    for data in texts:
        HTMLParser().feed(data.decode())
    parsing = time.process_time() - began
    began = time.process_time()
    changes = 0
    after = []
    for number, data in enumerate(texts):
        document = Document.from_bytes(data)
        result = rewrite_page(document, f"pages/{number}.html", site, RewriteOptions())
        after.append(document.bytes_of(result.applied()))
        changes += len(result.changes)
    first = time.process_time() - began
    began = time.process_time()
    again = sum(
        len(rewrite_page(Document.from_bytes(data), f"pages/{number}.html", site, RewriteOptions()).changes)
        for number, data in enumerate(after)
    )
    second = time.process_time() - began
    size = sum(map(len, texts))
    print(f"{PAGES} pages, {size / 1e6:.1f} MB, {changes} pictures; a second time {again}")
    print(f"a pass of html.parser {parsing:.2f} s")
    print(
        f"rewritten {first:.2f} s, {first / parsing:.2f} of that; again {second:.2f} s, {second / parsing:.2f}"
    )
    big = "<main>" + page(1) * 250
    began = time.process_time()
    rewrite_page(Document.from_bytes(big.encode()), str(Path("pages/big.html")), site, RewriteOptions())
    print(f"one page of {len(big) / 1e6:.1f} MB {time.process_time() - began:.2f} s")


if __name__ == "__main__":
    main()
