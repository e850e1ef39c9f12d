"""Backgrounds in stylesheets: a plain `url()` for older browsers, then `image-set()` (CSS Images 4, 2.3), which others take.

Before them a comment holds the address that stood there, by which a second rewriting knows what is ours.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from typing import NamedTuple
from urllib.parse import quote

from young_prism.core.html.rewrite.changes import (
    Concern,
    Edit,
    Mode,
    ReferenceChange,
    Rewriting,
    change,
)
from young_prism.core.html.rewrite.context import PageContext
from young_prism.core.html.rewrite.document import Document
from young_prism.core.html.rewrite.options import BY_CHOICE, RewriteOptions
from young_prism.core.html.rewrite.site import (
    Match,
    NoMatch,
    SiteIndex,
)
from young_prism.core.html.rewrite.tags import TagEditor
from young_prism.core.markup.delivered import WIDEST_VIEWPORT, Delivered
from young_prism.core.markup.forms import set_options
from young_prism.core.markup.media import Screen
from young_prism.core.markup.picture import MarkupRendition, by_format
from young_prism.core.markup.selection import slot_width
from young_prism.core.markup.urls import path_url
from young_prism.core.naming.rule import WHOLE_FACET

_PROPERTIES = frozenset({"background", "background-image"})
_STRING = r"\"(?:[^\"\\\n]|\\.)*+\"|'(?:[^'\\\n]|\\.)*+'"
_PIECE = re.compile(
    rf"(?P<comment>/\*.*?(?:\*/|\Z))|(?P<url>url\(\s*(?:{_STRING}|(?:[^\s)\"'\\]|\\[0-9a-fA-F]{{1,6}}[ \t]?|\\.)*+)\s*\))|(?P<string>{_STRING})"
    r"|(?P<mark>[{};()])",
    re.DOTALL | re.IGNORECASE,
)
_NAME = re.compile(r"\s*([-\w]+)\s*:", re.ASCII)
_SIZED = re.compile(r"/\s*(?:cover|contain|[\d.]|calc\(|min\(|max\(|clamp\(|auto\s+[\d.])", re.IGNORECASE)
_KEPT_IN_COMMENT = "/:?=&#%+,~()'!@$"
"""Everything else is percent-encoded: a comment must hold neither */ nor what the file's encoding lacks."""
_ORIGINAL_COMMENT = re.compile(r"/\*\s*original:\s*(\S+)\s*\*/")


class _Declaration(NamedTuple):
    start: int
    end: int
    name: str
    urls: tuple[tuple[int, int], ...]
    block: int
    comment: tuple[int, int] | None
    """The place of our comment right before it."""


def rewrite_style(document: Document, path: str, site: SiteIndex, options: RewriteOptions) -> Rewriting:
    """Return what would change in a stylesheet."""
    context = PageContext(document, path, site, site.base_of(path), TagEditor(document))
    changes = style_changes(context, options, {})
    return Rewriting(document.text, tuple(changes), tuple(context.left))


def style_changes(
    context: PageContext,
    options: RewriteOptions,
    seen: dict[str, int],
    *,
    mark: str = '"',
    inline: bool = False,
) -> list[ReferenceChange]:
    """Return what would change in a stylesheet, the content of a `style` element, or a `style` attribute.

    Args:
        context: The stylesheet, or the part of a page as a document of its own; what is left alone is added to it.
        options: How it is to be rewritten.
        seen: Counts equal changes of the file.
        mark: The quotation mark of addresses.
        inline: Whether it is a `style` attribute.
    """
    return _Styles(context, options, mark, seen).run(inline=inline)


@dataclass(frozen=True, slots=True)
class _Styles:
    context: PageContext
    options: RewriteOptions
    mark: str
    seen: dict[str, int]

    def run(self, *, inline: bool) -> list[ReferenceChange]:
        text = self.context.document.text
        scan = _scanned(text, inline=inline)
        declarations = scan.declarations
        sized = {
            declaration.block
            for declaration in declarations
            if declaration.name == "background-size"
            or (declaration.name == "background" and _SIZED.search(text, declaration.start, declaration.end))
        }
        changes: list[ReferenceChange] = []
        skip = -1
        for at, declared in enumerate(declarations):
            if declared.start <= skip or not declared.urls:
                continue
            url = self._url(*declared.urls[0])
            marker = _ORIGINAL_COMMENT.match(text, *declared.comment) if declared.comment else None
            original_url = marker[1] if marker else url
            if not marker and self.context.is_rendition(url):
                continue  # written by hand, with our files
            match = self.context.find(original_url)
            if isinstance(match, Match) and self.context.site.delivered[match.original].is_copy:
                continue
            if isinstance(match, NoMatch):
                if match.value and match is not NoMatch.NO_FILE:
                    self.context.leave(declared.start, url, match.value, concern=match.concern)
                continue
            mode = self._mode(declared, match, url, sized=declared.block in sized)
            if mode is None:
                continue
            following = declarations[at + 1] if at + 1 < len(declarations) else None
            second = (
                following
                if declared.comment
                and following
                and following.block == declared.block
                and following.name == declared.name
                and "image-set(" in text[following.start : following.end]
                else None
            )
            start, end = (
                declared.comment[0] if declared.comment else declared.start,
                (second or declared).end,
            )
            skip = end
            new = self._written(declared, match, original_url, mode, sized=declared.block in sized)
            made = change(text, match.original, [Edit(start, end, new)], self.seen)
            if made:
                changes.append(made)
        return changes

    def _mode(self, declaration: _Declaration, match: Match, url: str, *, sized: bool) -> Mode | None:
        """Return how much of a declaration is changed; None for nothing, with the reason listed."""
        mode = self.options.mode_of(self.context.page, match.original)
        if mode is Mode.SIZES:
            return None
        if mode is None:
            self.context.leave(declaration.start, url, BY_CHOICE, concern=Concern.HARMLESS)
            return None
        why = self._why_not(declaration, match, sized=sized)
        if why:
            self.context.leave(declaration.start, url, why)
            return None
        return mode

    def _url(self, start: int, end: int) -> str:
        inner = self.context.document.meaning(self.context.document.text[start + 4 : end - 1]).strip()
        if inner[:1] in ("'", '"'):
            inner = inner[1:-1]
        return re.sub(r"\\(?:([0-9a-fA-F]{1,6})\s?|(.))", _unescaped, inner)

    def _why_not(self, declaration: _Declaration, match: Match, *, sized: bool) -> str:
        if declaration.name not in _PROPERTIES:
            return f"{declaration.name} is not rewritten"
        if len(declaration.urls) > 1:
            return "two images in one declaration"
        if "image-set(" in self.context.document.text[declaration.start : declaration.urls[0][0]].lower():
            return "it is in an image-set already"
        if self.context.site.prefix(match, self.context.base) is None:
            return "this stylesheet cannot reach the renditions; give their address"
        delivered = self.context.site.delivered[match.original]
        if not sized and not self._natural(delivered):
            return "shown at its natural size (no background-size), and no rendition has that size"
        return ""

    @staticmethod
    def _natural(delivered: Delivered) -> int:
        """Return the original's own width where there is a rendition of it, else 0."""
        width = delivered.size.width
        return width if any(rendition.width == width for rendition in delivered.fallback) else 0

    def _written(self, declaration: _Declaration, match: Match, url: str, mode: Mode, *, sized: bool) -> str:
        delivered = self.context.site.delivered[match.original]
        prefix = self.context.site.prefix(match, self.context.base) or ""
        formats = by_format(delivered.candidates, WHOLE_FACET)
        width = (
            round(slot_width(delivered.markup.sizes, Screen(WIDEST_VIEWPORT)))
            if sized
            else self._natural(delivered)
        )
        rungs = (
            formats if sized else [[r for r in candidates if r.size.width == width] for candidates in formats]
        )
        rungs = [candidates for candidates in rungs if candidates]
        plain = next((r for r in rungs[-1] if r.size.width >= width), rungs[-1][-1])
        comment = f"/* original: {quote(url, safe=_KEPT_IN_COMMENT)} */"
        first = self._with(declaration, self._plain(plain, prefix))
        if mode is Mode.ADDRESSES or not self._modern(rungs):
            return f"{comment} {first}"
        options = ", ".join(
            option for candidates in rungs for option in set_options(candidates, width, prefix)
        )
        second = self._with(declaration, f"image-set({options})".replace('"', self.mark))
        return f"{comment} {first};{self._joint(declaration)}{second}"

    @staticmethod
    def _modern(rungs: list[list[MarkupRendition]]) -> bool:
        return len(rungs) > 1

    def _plain(self, rung: MarkupRendition, prefix: str) -> str:
        return f"url({self.mark}{path_url(rung.path, prefix)}{self.mark})"

    def _with(self, declaration: _Declaration, picture: str) -> str:
        """Return a declaration with another picture instead of its own."""
        start, end = declaration.urls[0]
        return (
            self.context.document.text[declaration.start : start]
            + picture
            + self.context.document.text[end : declaration.end]
        )

    def _joint(self, declaration: _Declaration) -> str:
        """Return the text between two declarations: a line break where the first one has a line of its own."""
        text = self.context.document.text
        begin = declaration.comment[0] if declaration.comment else declaration.start
        start = text.rfind("\n", 0, begin) + 1
        before = text[start:begin]
        if before.strip() or not start:
            return " "
        return ("\r\n" if text[start - 2 : start] == "\r\n" else "\n") + before


def _unescaped(match: re.Match[str]) -> str:
    return chr(int(match[1], 16)) if match[1] else str(match[2])


def _scanned(text: str, *, inline: bool) -> _Scan:
    """Return the declarations of all blocks in order, by their places."""
    scan = _Scan(text, [0] if inline else [])
    for piece in _PIECE.finditer(text):
        if piece["comment"] is not None:
            scan.comment(piece)
        elif piece["url"] is not None:
            scan.urls.append(piece.span())
        elif piece["mark"]:
            scan.mark(piece)
    scan.declaration(len(text))
    return scan


@dataclass(slots=True)
class _Scan:
    """Where a scan of a stylesheet is: the blocks that are open, and what the declaration has so far."""

    text: str
    open: list[int]
    declarations: list[_Declaration] = field(default_factory=list)
    start: int = 0
    blocks: int = 0
    parens: int = 0
    urls: list[tuple[int, int]] = field(default_factory=list)
    original_comment: tuple[int, int] | None = None

    def comment(self, piece: re.Match[str]) -> None:
        """Note our comment right before a declaration; any other belongs to what is around it."""
        if not self.text[self.start : piece.start()].strip():
            self.original_comment = piece.span() if _ORIGINAL_COMMENT.fullmatch(piece[0]) else None
            self.start = piece.end()

    def mark(self, piece: re.Match[str]) -> None:
        """Go on behind a brace, a semicolon or a bracket."""
        mark = piece["mark"]
        if mark in "()":
            self.parens = max(0, self.parens + (1 if mark == "(" else -1))
            return
        if mark == ";" and self.parens:
            return
        if mark != "{":
            self.declaration(piece.start())
        if mark == "{":
            self.blocks += 1
            self.open.append(self.blocks)
        elif mark == "}" and self.open:
            self.open.pop()
        self.start, self.urls, self.original_comment, self.parens = piece.end(), [], None, 0

    def declaration(self, end: int) -> None:
        """Record the text since the last mark as a declaration, if it is one and in a block."""
        name = _NAME.match(self.text, self.start, end)
        if name and self.open:
            first = name.start(1)
            last = first + len(self.text[first:end].rstrip())
            self.declarations.append(
                _Declaration(
                    first, last, name[1].lower(), tuple(self.urls), self.open[-1], self.original_comment
                )
            )
