"""Which images a site's own pages and stylesheets refer to, and how large they show them.

HTML Living Standard: img, source, srcset grammar (4.8.4.2.1), sizes, video's poster, link, input, object, base; SVG 2:
image; CSS Images 4: url(), image-set(). `data-src` and `data-srcset` are how lazy loaders keep addresses (common
practice, no source), `og:image` how a page names its preview. Scripts and data files are only searched for mentions: a
mention shows that a picture is used, and its absence shows nothing.
"""

from __future__ import annotations

import posixpath
import re
from collections import defaultdict
from collections.abc import Collection, Iterable, Iterator, Mapping
from html.parser import HTMLParser
from typing import NamedTuple
from urllib.parse import unquote, urlsplit

import tinycss2

from young_prism.core.file_stamp import FileStamp
from young_prism.core.images.sniff import IMAGE_ENDINGS
from young_prism.core.markup.srcset import split_srcset
from young_prism.core.naming.collisions import casefold_key

PAGES_OF_HTML = frozenset(
    {
        "html",
        "htm",
        "xhtml",
        "shtml",
        "php",
        "twig",
        "njk",
        "liquid",
        "erb",
        "ejs",
        "hbs",
        "mustache",
        "jinja",
        "j2",
    }
)
"""Endings of pages, and of templates whose text is a page's."""
_MARKUP = PAGES_OF_HTML | {"vue", "svelte", "astro", "jsx", "tsx", "md", "mdx"}
STYLES = frozenset({"css"})
_LOOSE = frozenset(
    [
        "scss",
        "sass",
        "less",
        "styl",
        "js",
        "mjs",
        "cjs",
        "ts",
        "json",
        "webmanifest",
        "yml",
        "yaml",
        "xml",
        "toml",
    ]
)
PAGE_ENDINGS = _MARKUP | STYLES | _LOOSE
"""Endings of files that may refer to images."""

_PICTURE = "|".join(sorted((*IMAGE_ENDINGS, "ico"), key=len, reverse=True))
_ENDING = re.compile(rf"\.(?:{_PICTURE})(?![\w])", re.IGNORECASE)
_BEFORE = re.compile(r"[^\s\"'`()<>\\,;|={}]+\Z")
_LONGEST = 300
"""Characters looked at before an ending: a line of packed script has no other end."""
_TEMPLATE = re.compile(r"\{\{|\{%|<\?|\$\{|<%|\{#")
_PX = re.compile(r"\s*(\d+)(?:\.\d+)?(?:px)?\s*", re.IGNORECASE)
_STYLE_WIDTH = re.compile(r"(?:^|;)\s*(?:min-)?width\s*:\s*(\d+)(?:\.\d+)?px", re.IGNORECASE)


class ImageReference(NamedTuple):
    """An address as it stands in a page.

    `width` is what it is shown at in CSS pixels, 0 where the page does not say; a `mention` stands in no attribute that
    loads it, and its path may begin anywhere.
    """

    url: str
    width: int = 0
    is_text_mention: bool = False


KnownPages = dict[str, tuple[FileStamp, tuple[ImageReference, ...]]]
"""Page -> the stamp that it had when it was read, and its references."""


class Usage(NamedTuple):
    """Which pages use an original, and the largest width in CSS pixels that one of them says."""

    pages: tuple[str, ...]
    width: int


class Missing(NamedTuple):
    """A referred-to path below the site's folder where no file is; `instead` differs from it only in case."""

    path: str
    pages: tuple[str, ...]
    instead: str


class PageReferences(NamedTuple):
    """What the pages of a site refer to. `read` is how many pages were read: with none, nothing is known."""

    read: int
    used: Mapping[str, Usage]
    missing: tuple[Missing, ...]


NO_PAGES = PageReferences(0, {}, ())


def references(text: str, ending: str) -> tuple[ImageReference, ...]:
    """Return what a page (by its ending, without the dot) refers to, in order, without addresses on other hosts."""
    if ending in STYLES:
        references: Iterable[ImageReference] = (ImageReference(url) for url in _style_urls(text))
    elif ending in _LOOSE:
        references = ()
    else:
        parser = _PageParser()
        parser.feed(text)
        parser.close()
        references = parser.resolved()
    exact = [ref for ref in references if _is_local(ref.url)]
    urls = {ref.url for ref in exact}
    mentions = [
        ref
        for ref in (() if ending in STYLES else map(_mention, mentions_in(text)))
        if _is_local(ref.url) and ref.url not in urls
    ]
    return tuple(dict.fromkeys([*exact, *mentions]))


def _mention(url: str) -> ImageReference:
    return ImageReference(url, is_text_mention=True)


def mentions_in(text: str) -> Iterator[str]:
    """Yield what looks like a picture's address in a script, in data, in a comment."""
    for match in _ENDING.finditer(text):
        before = _BEFORE.search(text[max(0, match.start() - _LONGEST) : match.start()])
        if before:
            yield before[0] + match[0]


class _PageParser(HTMLParser):
    def __init__(self) -> None:
        super().__init__(convert_charrefs=True)
        self._references: list[ImageReference] = []
        self._base = ""
        self._in_style = False

    def resolved(self) -> list[ImageReference]:
        return [
            ref._replace(url=self._base + ref.url) if _is_relative(ref.url) else ref
            for ref in self._references
        ]

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        values = {name: value for name, value in attrs if value}
        self._in_style = tag == "style"
        if tag == "base" and _is_local(values.get("href", "")):
            self._base = values["href"].rpartition("/")[0] + "/"
        width = _shown_width(values)
        for name in _SOURCES.get(tag, ()):
            if name in values and _names_image(tag, name, values):
                self._references.append(ImageReference(values[name].strip(), width))
        for name in ("srcset", "data-srcset", "imagesrcset"):
            if name in values:
                self._references += [
                    ImageReference(url, _width_of(descriptors) or width)
                    for url, descriptors in split_srcset(values[name])
                ]
        self._references += [ImageReference(url) for url in _style_urls(values.get("style", ""))]

    def handle_endtag(self, tag: str) -> None:
        if tag == "style":
            self._in_style = False

    def handle_data(self, data: str) -> None:
        if self._in_style:
            self._references += [ImageReference(url) for url in _style_urls(data)]


_SOURCES = {
    "img": ("src", "data-src"),
    "source": ("data-src",),
    "input": ("src",),
    "video": ("poster",),
    "image": ("href", "xlink:href"),
    "link": ("href",),
    "meta": ("content",),
    "object": ("data",),
    "embed": ("src",),
    "a": ("href",),
    "body": ("background",),
    "table": ("background",),
    "td": ("background",),
    "div": ("data-src", "data-bg", "data-background"),
}


def _names_image(tag: str, name: str, values: Mapping[str, str]) -> bool:
    """Whether an attribute that may hold any address holds an image's."""
    if tag == "input":
        return values.get("type", "").lower() == "image"
    if tag == "meta":
        return (
            "image" in (values.get("property") or values.get("name") or values.get("itemprop") or "").lower()
        )
    if tag in ("link", "a", "object", "embed"):
        return _is_picture(values[name])
    return True


def _shown_width(values: Mapping[str, str]) -> int:
    """Return the width in CSS pixels that an element says for itself: its attribute, its style, or plain `sizes`."""
    style = _STYLE_WIDTH.search(values.get("style", ""))
    if style:
        return int(style[1])
    for name in ("width", "sizes"):
        match = _PX.fullmatch(values.get(name, ""))
        if match and (name == "width" or "px" in values[name]):
            return int(match[1])
    return 0


def _width_of(descriptors: list[str]) -> int:
    """Return the width in pixels that a candidate's descriptors say, 0 where they say none."""
    widths = (descriptor[:-1] for descriptor in descriptors if descriptor.endswith("w"))
    return next((int(width) for width in widths if width.isascii() and width.isdigit()), 0)


def _style_urls(text: str) -> Iterator[str]:
    if "url(" in text.lower() or "image-set(" in text.lower():
        yield from _urls_in(tinycss2.parse_component_value_list(text, skip_comments=True), in_set=False)


def _urls_in(tokens: Iterable[tinycss2.ast.Node], *, in_set: bool) -> Iterator[str]:
    for token in tokens:
        if token.type == "url" or (token.type == "string" and in_set):
            yield token.value
        elif token.type == "function":
            name = token.lower_name
            if name in ("url", "src"):
                yield from (argument.value for argument in token.arguments if argument.type == "string")
            else:
                yield from _urls_in(token.arguments, in_set=name.endswith("image-set"))
        elif token.type in ("{} block", "() block", "[] block"):
            yield from _urls_in(token.content, in_set=in_set)


def _is_picture(url: str) -> bool:
    return urlsplit(url).path.rpartition(".")[2].lower() in IMAGE_ENDINGS | {"ico"}


def _is_relative(url: str) -> bool:
    return _is_local(url) and not url.startswith("/")


def _is_local(url: str) -> bool:
    if not url or url.startswith(("#", "//")) or _TEMPLATE.search(url):
        return False
    try:
        parts = urlsplit(url)
    except ValueError:
        return False
    return not parts.scheme and bool(parts.path)


def collect_references(
    pages: Mapping[str, Collection[ImageReference]],
    files: Collection[str],
    originals: Collection[str],
    folder: str,
) -> PageReferences:
    """Match what pages refer to with the files of a site.

    `pages` and `files` are paths below the site's folder, `originals` paths below the source's, and `folder` is where
    the source lies in the site: `images`, or empty where they are the same.
    """
    prefix = f"{folder}/" if folder else ""
    path_by_url = {prefix + path: path for path in originals}
    by_name: dict[str, list[str]] = defaultdict(list)
    for path in path_by_url:
        by_name[path.rpartition("/")[2].lower()].append(path)
    present = set(files) | set(path_by_url)
    used: dict[str, dict[str, int]] = defaultdict(dict)
    missing: dict[str, dict[str, None]] = defaultdict(dict)
    for page, references in pages.items():
        for ref in references:
            if ref.is_text_mention:
                for path in _mentioned(ref.url, by_name):
                    used[path_by_url[path]].setdefault(page, 0)
                continue
            path, exists = _resolve(page, ref.url, present)
            if path in path_by_url:
                used[path_by_url[path]][page] = max(ref.width, used[path_by_url[path]].get(page, 0))
            elif not exists and path and _is_picture(path):
                missing[path][page] = None
    in_any_case = {casefold_key(path): path for path in present}
    return PageReferences(
        len(pages),
        {path: Usage(tuple(by), max(by.values())) for path, by in used.items()},
        tuple(
            Missing(path, tuple(by), in_any_case.get(casefold_key(path), ""))
            for path, by in sorted(missing.items())
        ),
    )


def _mentioned(url: str, by_name: Mapping[str, list[str]]) -> Iterator[str]:
    path = unquote(urlsplit(url).path).lstrip("./")
    for candidate in by_name.get(path.rpartition("/")[2].lower(), ()):
        if candidate == path or candidate.endswith("/" + path) or path.endswith("/" + candidate):
            yield candidate


def _resolve(page: str, url: str, present: Collection[str]) -> tuple[str, bool]:
    """Return the path below the site that an address on a page leads to, and whether a file is there.

    An address from the root is tried from the site's folder first, then from each folder above the page: which of
    them a server will call its root is not written anywhere.
    """
    path = unquote(urlsplit(url).path)
    here = posixpath.dirname(page)
    if not path.startswith("/"):
        joined = posixpath.normpath(posixpath.join(here, path))
        return ("", True) if joined.startswith("..") else (joined, joined in present)
    plain = posixpath.normpath(path).lstrip("/")
    roots = [""]
    while here:
        roots.append(here)
        here = posixpath.dirname(here)
    for root in roots:
        candidate = posixpath.join(root, plain)
        if candidate in present:
            return candidate, True
    return plain, False
