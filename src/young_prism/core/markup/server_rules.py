"""Rules for servers, so that addresses stay as they are and clients get the best format that they name.

nginx and Apache cannot compare weights; both can match a pattern. So each weight is written with four digits, and one
pattern with a back reference tells whether the first of two is less: the same pattern for both.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import combinations, permutations

from young_prism.core.manifest.model import Manifest
from young_prism.core.markup.delivered import Delivered, all_delivered
from young_prism.core.markup.urls import path_url
from young_prism.core.naming.rule import split_name, uses
from young_prism.core.recipe.formats import ordered_formats
from young_prism.core.types import MODERN_FORMATS, ImageFormat

FALLBACKS = (ImageFormat.JPEG, ImageFormat.PNG, ImageFormat.GIF)
FOREVER = "public, max-age=31536000, immutable"
"""RFC 8246: for names that change with the content."""
A_DAY = "public, max-age=86400"

_LESS = r"(\d*)(?:" + "|".join(rf"{digit}\d* \1[{digit + 1}-9]" for digit in range(9)) + ")"
"""Whether the first of two numbers of four digits, with a space between, is less than the second."""


@dataclass(frozen=True, slots=True)
class ServedFiles:
    """What the rules are about: where renditions are served, and which old address leads to which of them.

    `prefix` is the path of the output folder on the server, with a / at both ends. `old` leads from paths of originals to those of
    fallback renditions, both from the server's root. `alternates` are renditions whose formats do not share a stem: by fallback, the
    others. `order` is that of the modern formats where a client weighs them alike.
    """

    prefix: str
    redirects: Mapping[str, str]
    alternates: Mapping[str, Mapping[ImageFormat, str]]
    cache: str
    order: tuple[ImageFormat, ...] = MODERN_FORMATS

    @classmethod
    def from_manifest(cls, manifest: Manifest, prefix: str, originals: str | None = None) -> ServedFiles:
        """Return what a build needs. `originals` is the path of the source on the server; None leaves old addresses alone."""
        prefix = f"/{prefix.strip('/')}/" if prefix.strip("/") else "/"
        delivered = all_delivered(manifest.originals, manifest.recipe)
        old = {}
        if originals is not None:
            before = f"/{originals.strip('/')}/" if originals.strip("/") else "/"
            old = {
                before + path: prefix + entry.default_rendition.path
                for path, entry in delivered.items()
                if not entry.is_copy
            }
        pairs = {
            prefix + plain: {fmt: prefix + path for fmt, path in alternates.items()}
            for entry in delivered.values()
            for plain, alternates in siblings(entry).items()
            if any(_stem(path) != _stem(plain) for path in alternates.values())
        }
        names = manifest.recipe.names
        rules = (names.rule, *(special.rule for special in names.special))
        # All of these change with the original.
        hashed = all(any(uses(rule, field) for field in ("hash", "sha", "random")) for rule in rules)
        order = tuple(ordered_formats(MODERN_FORMATS, manifest.recipe.formats.order))
        return cls(prefix, old, pairs, FOREVER if hashed else A_DAY, order)


def siblings(delivered: Delivered) -> dict[str, dict[ImageFormat, str]]:
    """Return for each fallback rendition the same picture at the same size in modern formats."""
    by_place: dict[tuple[str | None, int, int], dict[ImageFormat, str]] = defaultdict(dict)
    for rendition in delivered.renditions:
        by_place[rendition.facet, rendition.width, rendition.height][ImageFormat(rendition.format)] = (
            rendition.path
        )
    by_path = {}
    for files in by_place.values():
        plain = next((files[fmt] for fmt in FALLBACKS if fmt in files), None)
        if plain:
            by_path[plain] = {fmt: path for fmt, path in files.items() if fmt in MODERN_FORMATS}
    return by_path


def _stem(path: str) -> str:
    return split_name(path)[0]


_DIGITS = "#"
"""Stands for the digits that a pattern has caught."""


def _weight(mime: str) -> list[tuple[str, str]]:
    """Return patterns for a media range in `Accept`, the most telling first, each with the four digits of its weight."""
    begin = rf"(?:^|,)\s*{re.escape(mime)}\s*(?:;(?!\s*q\s*=)[^,;]*)*"
    weight, end = r";\s*q\s*=\s*", r"\s*(?:[,;]|$)"
    return [
        (rf"{begin}{weight}1(?:\.0{{0,3}})?{end}", "1000"),
        (rf"{begin}{weight}0\.(\d\d\d){end}", f"0{_DIGITS}"),
        (rf"{begin}{weight}0\.(\d\d){end}", f"0{_DIGITS}0"),
        (rf"{begin}{weight}0\.(\d){end}", f"0{_DIGITS}00"),
        (rf"{begin}{weight}", "0000"),
        (rf"{begin}(?:,|$)", "1000"),
    ]


_SEEN_BY = {
    **{fmt.value: (fmt.mime,) for fmt in MODERN_FORMATS},
    "jpeg": ("image/jpeg", "image/*", "*/*"),
    "png": ("image/png", "image/*", "*/*"),
    "gif": ("image/gif", "image/*", "*/*"),
}


def nginx(served: ServedFiles) -> str:
    """Return two parts for nginx 1.18 or newer: maps for the `http` block, and locations for the `server`."""
    lines = [
        "# In the http block:",
        "# The weight (q) that the client gives to each format, in four digits: 0850 for q=0.85, 0000 if it does not name it.",
        *(line for name, ranges in _SEEN_BY.items() for line in _nginx_weight(name, ranges)),
        *_block("map $yp_ending $yp_plain", "default $yp_jpeg", "~*^png$ $yp_png", "~*^gif$ $yp_gif"),
    ]
    lines += [
        "# The ending of each modern format if the client names it, and weighs it no less than the file that it asks for."
    ]
    for name in MODERN_FORMATS:
        weights = f'map "$yp_{name} $yp_plain" $yp_{name}_fits'
        lines += _block(weights, f'default ".{name}"', '"~^0000" "/none"', f'"~^{_LESS}" "/none"')
    lines += [
        *_nginx_order(served.order),
        *_nginx_files(served),
        "",
        "# In the server block:",
    ]
    if served.redirects:
        lines += [
            "# Old addresses lead to renditions. They keep their names when a picture changes, so they are kept for a day only.",
            'set $yp_moved "";',
            *_block("if ($yp_old)", "set $yp_moved 1", "rewrite ^ $yp_old last"),
        ]
    lines.append(
        "# A rendition that any browser shows: the best format that the client names, where its file exists."
    )
    stems = [f"{served.prefix}$yp_stem$yp_{which}" for which in _ORDER]
    tries = " ".join([f"$yp_{which}_file" for which in _ORDER] if served.alternates else stems)
    prefix = _pattern(served.prefix)
    headers = [
        f"types {{ {' '.join(f'{fmt.mime} {fmt.ext};' for fmt in MODERN_FORMATS)} image/jpeg jpg jpeg; image/png png; image/gif gif; image/svg+xml svg; }}",
        f"add_header Cache-Control {'$yp_cache' if served.redirects else _quoted_text(served.cache)}",
        'add_header X-Content-Type-Options "nosniff"',
    ]
    lines += [
        *_block(
            f'location ~* "^{prefix}(?<yp_stem>.+)\\.(?<yp_ending>jpe?g|png|gif)$"',
            *headers,
            'add_header Vary "Accept"',
            f"try_files {tries} $uri =404",
        ),
        "# A rendition that was requested by its own name.",
        *_block(f'location ~* "^{prefix}.+\\.(?:{_MODERN_ENDINGS}|svg)$"', *headers),
    ]
    return "\n".join(lines) + "\n"


_ORDER = ("first", "second", "third")
_MODERN_ENDINGS = "|".join(fmt.ext for fmt in MODERN_FORMATS)


def _quoted_text(text: str) -> str:
    return f'"{text}"'


def _nginx_order(modern: Sequence[ImageFormat]) -> list[str]:
    """Return maps to the endings that are tried first, second and third: by weight, of equal ones in the order given."""
    lines = ["# Which of two formats weighs more, and from that the order in which their files are tried."]
    pairs = list(combinations(modern, 2))
    for earlier, later in pairs:
        lines += _block(
            f'map "$yp_{earlier} $yp_{later}" $yp_{later}_over_{earlier}', "default 0", f'"~^{_LESS}" 1'
        )
    comparisons = "".join(f"$yp_{later}_over_{earlier}" for earlier, later in pairs)
    for position, which in enumerate(_ORDER):
        ranked = (
            f'"{"".join(str(int(order.index(earlier) > order.index(later))) for earlier, later in pairs)}" '
            f"$yp_{order[position]}_fits"
            for order in permutations(modern)
        )
        lines += _block(f'map "{comparisons}" $yp_{which}', 'default "/none"', *ranked)
    return lines


def _block(head: str, *statements: str) -> list[str]:
    return [
        head + " {",
        *(f"    {statement}{'' if statement.endswith('}') else ';'}" for statement in statements),
        "}",
    ]


def _nginx_weight(name: str, ranges: Sequence[str]) -> list[str]:
    statements = ["default 0000"]
    for pattern, digits in (pair for mime in ranges for pair in _weight(mime)):
        group = f"yp_{name}_{len(statements)}"
        named = pattern.replace(r"(\d", rf"(?<{group}>\d")
        statements.append(f'"~*{named}" "{digits.replace(_DIGITS, "${" + group + "}")}"')
    return _block(f"map $http_accept $yp_{name}", *statements)


def _nginx_files(served: ServedFiles) -> list[str]:
    """Return maps that name files one by one: for old addresses, and where the names of formats do not share a stem."""
    lines: list[str] = []
    if served.redirects:
        cache = [f'default "{served.cache}"', f'1 "{A_DAY}"']
        lines += ["# Where old addresses lead.", *_block('map "$yp_moved" $yp_cache', *cache)]
        old = (f"{_nginx_key(path)} {_nginx_text(new)}" for path, new in served.redirects.items())
        lines += _block("map $uri $yp_old", 'default ""', *old)
    for which in _ORDER if served.alternates else ():
        files = (
            f"{_nginx_key(f'{plain}.{fmt.value}')} {_nginx_text(path)}"
            for plain, alternates in served.alternates.items()
            for fmt, path in alternates.items()
        )
        lines += _block(f'map "$uri$yp_{which}" $yp_{which}_file', 'default "/none"', *files)
    if any("$" in path for path in served.redirects.values()):
        lines += ["geo $yp_dollar {", '    default "$";', "}"]  # there is no other way to write one
    return lines


def _nginx_text(text: str) -> str:
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"').replace("$", "${yp_dollar}") + '"'


def _nginx_key(text: str) -> str:
    """Return a key as a pattern: a plain one would be compared without regard to case."""
    return f'"~^{_pattern(text)}$"'


def _pattern(text: str) -> str:
    return re.escape(text).replace('"', '\\"')


def apache(served: ServedFiles) -> str:
    """Return the text of an .htaccess in the site's root, for Apache 2.4 with mod_rewrite, mod_setenvif and mod_headers."""
    lines = ["# .htaccess in the site's root; needs mod_rewrite, mod_setenvif, mod_headers and mod_mime."]
    lines += [*(f"AddType {fmt.mime} .{fmt.ext}" for fmt in MODERN_FORMATS), ""]
    lines.append("# The weight (q) that the client gives to each format, in four digits: 0850 for q=0.85.")
    for name, ranges in _SEEN_BY.items():
        lines.append(f'SetEnvIf Accept "^" yp_{name}=0000')
        # The last one that fits stays, so the least telling comes first.
        for pattern, digits in (pair for mime in reversed(ranges) for pair in reversed(_weight(mime))):
            lines.append(f'SetEnvIfNoCase Accept "{pattern}" yp_{name}={digits.replace(_DIGITS, "$1")}')
    lines += ["", "RewriteEngine On"]
    if served.redirects:
        lines.append("# Old addresses lead to renditions.")
    for old, new in served.redirects.items():
        lines.append(f'RewriteRule "^{_pattern(old[1:])}$" "{_apache_text(new)}"')
    lines.append(
        "# The best format that the client names, where its file exists, instead of the one that it asks for."
    )
    for plain, endings in (("jpeg", "jpe?g"), ("png", "png"), ("gif", "gif")):
        lines += (
            _apache_listed(served, plain, endings)
            if served.alternates
            else _apache_by_stem(served, plain, endings)
        )
    renditions = rf"m#^{_expression(served.prefix)}.+\.(?:{_MODERN_ENDINGS}|jpe?g|png|gif|svg)$#i"
    lines += [
        "",
        "# Only renditions get these headers, not the site's other pictures.",
        f'<If "%{{REQUEST_URI}} =~ {renditions}">',
        f'    Header set Cache-Control "{served.cache}"',
        '    Header set X-Content-Type-Options "nosniff"',
        "    Header merge Vary Accept",
        "</If>",
    ]
    if served.redirects:
        asked_by_name = rf"m#^\S+ {_expression(path_url(served.prefix))}#"
        lines += [
            "# Old addresses keep their names when a picture changes, so they are kept for a day only.",
            f'<If "%{{REQUEST_URI}} =~ {renditions} && %{{THE_REQUEST}} !~ {asked_by_name}">',
            f'    Header set Cache-Control "{A_DAY}"',
            "</If>",
        ]
    return "\n".join(lines) + "\n"


def _apache_by_stem(served: ServedFiles, plain: str, endings: str) -> list[str]:
    """Return the rules that send a modern format instead of one fallback, where both have the same stem.

    First the best of all three, then the best of any two, then any one: where the best has no file, the best of those that
    have one follows.
    """
    lines = []
    pattern = rf'RewriteRule "(?i)^{_pattern(served.prefix[1:])}(.+)\.(?:{endings})$"'
    for count in range(len(served.order), 0, -1):
        for among in combinations(served.order, count):
            for modern in among:
                lines += _apache_conditions(modern, among, plain)
                lines += [
                    f'RewriteCond "%{{DOCUMENT_ROOT}}{served.prefix}$1.{modern.ext}" -f',
                    f'{pattern} "{served.prefix}$1.{modern.ext}" [END,B=%]',
                ]
    return lines


def _apache_listed(served: ServedFiles, plain: str, endings: str) -> list[str]:
    """Return the rules that send a modern format instead of one fallback, where files are named one by one."""
    lines = []
    for path, alternates in served.alternates.items():
        if re.search(rf"\.(?:{endings})$", path):
            for modern, alternate in alternates.items():
                lines += _apache_conditions(modern, tuple(alternates), plain)
                lines.append(f'RewriteRule "^{_pattern(path[1:])}$" "{_apache_text(alternate)}" [END]')
    return lines


def _apache_conditions(modern: ImageFormat, among: Sequence[ImageFormat], plain: str) -> list[str]:
    """Return the conditions under which a client gets one of several modern formats: it names it, and weighs none more."""
    better = among[: among.index(modern)]
    lines = [
        f"RewriteCond %{{ENV:yp_{modern}}} !^0000",
        f'RewriteCond "%{{ENV:yp_{modern}}} %{{ENV:yp_{plain}}}" "!^{_LESS}"',
    ]
    lines += [f'RewriteCond "%{{ENV:yp_{rival}}} %{{ENV:yp_{modern}}}" "^{_LESS}"' for rival in better]
    lines += [
        f'RewriteCond "%{{ENV:yp_{modern}}} %{{ENV:yp_{rival}}}" "!^{_LESS}"'
        for rival in among
        if rival is not modern and rival not in better
    ]
    return lines


def _expression(text: str) -> str:
    """Return text as a part of a pattern between # in an Apache expression, itself between double quotes."""
    return re.escape(text).replace("\\#", "[#]").replace("#", "[#]").replace('"', ".")


def _apache_text(text: str) -> str:
    # What a rule ends with is an address again, so that a % must be written as one is there.
    return re.sub(r'([\\$%"])', r"\\\1", text.replace("%", "%25"))


def explained(served: ServedFiles) -> Sequence[str]:
    """Return what the rules do, a sentence each."""
    lines = [
        "A client that names JPEG XL, AVIF or WebP in Accept gets that file where there is one; any other gets the file that it asked for.",
        "Weights (q) are honoured. Vary: Accept tells caches that one address has several answers.",
    ]
    if served.cache == FOREVER:
        lines.append(
            "Names carry their original's hash, so files may be kept for a year; after a change of the recipe alone they keep their names, and need a new prefix."
        )
    else:
        lines.append("Names do not change with the content, so files are kept for a day.")
    if served.redirects:
        lines.append(
            "The old address of each original leads to its rendition; the file itself stays where it is."
        )
    return lines
