"""What comes of hostile input? `make bench-fuzz`: mutated pictures, recipes, pages, zips, drawings and records, seeded and bounded.

Each input is read as users' files are read. It is *accepted*, or *refused* with a sentence and a remedy; anything else is a
*fault*: an unexpected exception, a lost worker, a changed original, a file outside its folder, a rendition that a strict
decoder does not read. A short version runs with the tests.
"""

from __future__ import annotations

import argparse
import io
import json
import random
import re
import shutil
import time
import zipfile
from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path

from defusedxml.ElementTree import fromstring
from tests.support import jxl, pictures
from tests.support.builds import build

from young_prism.core.errors import YoungPrismError
from young_prism.core.html.references import references
from young_prism.core.html.rewrite.document import Document
from young_prism.core.html.rewrite.options import RewriteOptions
from young_prism.core.html.rewrite.page import rewrite_page
from young_prism.core.images.headers.contract import BytesView
from young_prism.core.inspection.inspect import inspect_header
from young_prism.core.project import read_project
from young_prism.core.recipe.codecs import Avif, Jpeg, Jxl, Png, Webp
from young_prism.core.recipe.formats import Formats, FormatSet, TransparentFormatSet, VectorFormats
from young_prism.core.recipe.ladder import Ladder
from young_prism.core.recipe.model import Names, Recipe
from young_prism.core.recipe.toml import read_recipe, write_recipe
from young_prism.core.selection.image_metadata import read_details
from young_prism.core.selection.scope import Scope
from young_prism.core.svg.sanitise import sanitise
from young_prism.demo import graphics
from young_prism.demo.site import write_site
from young_prism.engine.build.options import BuildOptions
from young_prism.engine.build.orphans import remove_orphans
from young_prism.engine.handoff.deploy import deploy, plan_deploy
from young_prism.engine.handoff.package import Package
from young_prism.engine.handoff.storage import storage_at
from young_prism.engine.intake.archive import unpack
from young_prism.engine.intake.inbox import Inbox, Limits
from young_prism.engine.output.manifest_file import read_manifest
from young_prism.engine.output.originals_backup import OriginalsBackup
from young_prism.engine.site.page_backup import undo_rewrite, write_rewrite
from young_prism.engine.site.rewrite import SitePages
from young_prism.engine.source.inspection import inspect_folder
from young_prism.engine.workers.pool import lazy_pool

WORK = Path(__file__).parent / "work" / "fuzz"
_BATCH = 500
_LARGEST_SEED = 60_000
"""Bytes: a mutation of a small file reaches its header as often as its pixels."""
_SMALL = FormatSet(jxl=Jxl(effort=1, from_jpeg=True), avif=Avif(effort=0), webp=Webp(effort=0), jpeg=Jpeg())
_CLEAR = TransparentFormatSet(webp=Webp(effort=0), png=Png(level=0))
RECIPE = Recipe(
    ladder=Ladder(widths=(40,)),
    formats=Formats(
        photo=_SMALL, photo_transparent=_CLEAR, graphic=FormatSet(webp=Webp(effort=0), png=Png(level=0)),
        graphic_transparent=_CLEAR, vector=VectorFormats(png=Png(level=0)),
    ),
)  # fmt: skip


@dataclass
class Outcomes:
    """How often each outcome came, and what was no outcome at all."""

    counts: Counter[str] = field(default_factory=Counter)
    faults: list[str] = field(default_factory=list)

    def fault(self, description: str) -> None:
        """Note something that must not be."""
        self.counts["fault"] += 1
        self.faults.append(description[:500])

    def call(self, read: Callable[[], object], label: str) -> bool:
        """Read one input; return whether it was accepted."""
        try:
            read()
        except YoungPrismError as error:
            if not (error.what.strip() and error.remedy.strip()):
                self.fault(f"{label}: refused without a sentence and a remedy: {error!r}")
            else:
                self.counts["refused"] += 1
            return False
        except Exception as error:  # noqa: BLE001  (that is the question)
            self.fault(f"{label}: {type(error).__name__}: {error}")
            return False
        self.counts["accepted"] += 1
        return True


def mutated(data: bytes, chance: random.Random) -> bytes:
    """Return bytes with one to eight mutations, mostly few."""
    content = bytearray(data)
    for _ in range(min(8, 1 + int(chance.expovariate(1.5)))):
        at = chance.randrange(len(content) or 1)
        length = min(len(content) - at, 1 + int(chance.expovariate(0.1)))
        match chance.randrange(8):
            case 0:
                content[at : at + 1] = bytes([content[at] ^ (1 << chance.randrange(8))]) if content else b""
            case 1:
                content[at : at + length] = chance.randbytes(length)
            case 2:
                del content[at : at + length]
            case 3:
                content[at:at] = content[at : at + length]
            case 4:
                content[at : at + length] = bytes(length)
            case 5:
                content[at : at + 4] = chance.choice(
                    (b"\xff\xff\xff\xff", b"\x7f\xff\xff\xff", b"\x00\x00\x00\x01")
                )
            case 6 if chance.random() < 0.2:
                del content[at + 1 :]
            case _:
                source = chance.randrange(len(content) or 1)
                content[at : at + length] = content[source : source + length]
    return bytes(content)


def seeds() -> list[tuple[str, bytes]]:
    """Return small pictures of every format that is read: real ones, and made ones."""
    samples = [
        (file.suffix, file.read_bytes())
        for file in pictures.real_pictures()
        if file.stat().st_size <= _LARGEST_SEED
    ]
    photo, clear = pictures.photo(90, 60), pictures.graphic(90, 60, clear=True)
    for name, options in (
        ("JPEG", {}), ("JPEG", {"progressive": True}), ("PNG", {}), ("GIF", {}), ("WEBP", {}), ("AVIF", {}), ("TIFF", {}), ("BMP", {}),
        ("TIFF", {"compression": "tiff_lzw"}), ("WEBP", {"lossless": True}),
    ):  # fmt: skip
        buffer = io.BytesIO()
        photo.save(buffer, name, **options)
        samples.append((f".{name.lower()}", buffer.getvalue()))
    samples += [(".jxl", data) for data in jxl.samples().values()]
    frames = [pictures.graphic(60 + number, 40).resize((60, 40)) for number in range(4)]
    for name in ("GIF", "WEBP", "AVIF"):
        buffer = io.BytesIO()
        frames[0].save(buffer, name, save_all=True, append_images=frames[1:], duration=80)
        samples.append((f".{name.lower()}", buffer.getvalue()))
    buffer = io.BytesIO()
    import pillow_heif

    pillow_heif.from_pillow(photo).save(buffer, quality=50)
    samples += [
        (".heic", buffer.getvalue()),
        (".png", pictures.png(clear)),
        (".svg", graphics.LOGO_SVG.encode()),
    ]
    buffer = io.BytesIO()
    photo.convert("CMYK").save(buffer, "JPEG")
    return [*samples, (".jpg", buffer.getvalue()), (".svg", graphics.gradient_svg().encode())]


def fuzz_pictures(number: int, chance: random.Random, until: float) -> Outcomes:
    """Inspect mutated pictures in workers, build those that pass, and read every rendition with a strict decoder."""
    outcomes, pool_of_seeds = Outcomes(), seeds()
    done = 0
    while done < number and time.monotonic() < until:
        folder = WORK / "pictures"
        shutil.rmtree(folder, ignore_errors=True)
        (folder / "site").mkdir(parents=True)
        for _ in range(min(_BATCH, number - done)):
            suffix, data = chance.choice(pool_of_seeds)
            (folder / "site" / f"{done}{suffix}").write_bytes(mutated(data, chance))
            done += 1
        _one_batch(folder, outcomes)
    shutil.rmtree(WORK / "pictures", ignore_errors=True)
    return outcomes


def _one_batch(folder: Path, outcomes: Outcomes) -> None:
    before = pictures.hashes(folder / "site")
    with lazy_pool(2) as pool:
        looks = inspect_folder(folder / "site", pool)
    outcomes.counts["accepted"] += len(looks.by_path)
    result = build(folder / "site", folder / "out", RECIPE, options=BuildOptions(jobs=2))
    if pictures.hashes(folder / "site") != before:
        outcomes.fault("an original was changed")
    for left in (*looks.left_out, *result.failures):
        text = f"{left.error} {left.remedy}"
        if "unforeseen" in text or not left.remedy or "Traceback" in text:
            outcomes.fault(f"{left.path}: {text}")
    outcomes.counts["refused"] += len(looks.left_out)
    outcomes.counts["failed later"] += len({failure.path for failure in result.failures} & set(looks.by_path))
    for file in (folder / "out").rglob("*"):
        if file.name.endswith(".part"):
            outcomes.fault(f"a part was left: {file.name}")
        if file.suffix in (".jpg", ".png", ".webp", ".gif", ".avif") and not pictures.has_all_frames(file):
            outcomes.fault(f"{file.name} was delivered, and a strict decoder refuses it")
        outcomes.counts["renditions"] += file.suffix in (".jpg", ".png", ".webp", ".gif", ".avif", ".svg")


def fuzz_toml(number: int, chance: random.Random, until: float) -> Outcomes:
    """Read mutated recipes, details and project files."""
    outcomes = Outcomes()
    texts = [write_recipe(Recipe()), pictures.QUICK_FORMATS, "", '[finishing.watermark]\nfile = "a.png"\n']
    texts += [
        '["a.jpg"]\ntitle = "x"\nfocal = [0.1, 0.2]\n',
        'source = "a"\n[budget]\nrendition = "30 kB"\nalt = ["x/"]\n',
    ]
    odd = (
        "[" * 3000,
        "9" * 5000,
        "1e999",
        "nan",
        '"\\u0000"',
        "{" * 200,
        "a." * 500 + "b = 1",
        '"' + "x" * 100_000 + '"',
        "\x00",
        "-1",
    )
    for _ in _bounded(number, until):
        text = chance.choice(texts)
        if chance.random() < 0.5:
            at = chance.randrange(len(text) + 1)
            text = text[:at] + chance.choice(odd) + text[at:]
        else:
            text = mutated(text.encode(), chance).decode("utf-8", "replace")
        read = chance.choice((read_recipe, read_details, lambda text: read_project(text, file="p")))
        outcomes.call(lambda text=text, read=read: read(text), f"toml {text[:80]!r}")
    return outcomes


def fuzz_pages(number: int, chance: random.Random, until: float) -> Outcomes:
    """Read mutated pages for references, and rewrite them."""
    from tests.core.test_rewrite import site

    outcomes = Outcomes()
    write_site(WORK / "pages")
    texts = [
        file.read_bytes() for file in sorted((WORK / "pages").rglob("*")) if file.suffix in (".html", ".css")
    ]
    texts += [
        b'<picture><source srcset="a.jpg 1x"><img src=a.jpg srcset="a.jpg 1x, deep/b%2C%20c.jpg 2x" sizes="(max-width:9px) 1vw"></picture>'
    ]
    odd = (
        b"<" * 5000,
        b"<!--",
        b"<![CDATA[",
        b"&#x110000;",
        b"<img src='a.jpg'" * 50,
        b"\x00",
        b"<script>",
        b'"' * 999,
        b"<svg><style>",
    )
    for _ in _bounded(number, until):
        data = mutated(chance.choice(texts), chance)
        if chance.random() < 0.3:
            at = chance.randrange(len(data) + 1)
            data = data[:at] + chance.choice(odd) + data[at:]

        def read(data: bytes = data) -> None:
            references(data.decode(errors="replace"), chance.choice(("html", "css")))
            document = Document.from_bytes(data)
            rewriting = rewrite_page(document, "index.html", site(), RewriteOptions())
            document.bytes_of(rewriting.applied())

        outcomes.call(read, f"page {data[:80]!r}")
    return outcomes


def fuzz_zips(number: int, chance: random.Random, until: float) -> Outcomes:
    """Unpack mutated zips; nothing may come to lie outside."""
    outcomes = Outcomes()
    picture = pictures.jpeg(pictures.photo(40, 30))
    names = (
        "a.jpg",
        "../a.jpg",
        "/etc/a.jpg",
        "c:/a.jpg",
        "a/../../b.jpg",
        "a\x00.jpg",
        "é.jpg",
        "a" * 300 + ".jpg",
        "deep/" * 300 + "a.jpg",
        "..\\a.jpg",
    )
    for count in _bounded(number, until):
        buffer = io.BytesIO()
        with zipfile.ZipFile(
            buffer, "w", chance.choice((zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED))
        ) as packed:
            for name in chance.sample(names, 4):
                packed.writestr(zipfile.ZipInfo(name), picture if chance.random() < 0.8 else bytes(100_000))
        data = buffer.getvalue() if count % 4 == 0 else mutated(buffer.getvalue(), chance)
        root = WORK / "zips"
        shutil.rmtree(root, ignore_errors=True)
        inbox = Inbox(root / "in" / "originals", root / "in" / "waiting", Limits(unpacked_bytes=5_000_000))
        inbox.open()
        outcomes.call(
            lambda data=data, inbox=inbox: unpack(io.BytesIO(data), inbox, name="z.zip"), f"zip {count}"
        )
        outside = [
            file
            for file in root.rglob("*")
            if file.is_file() and not file.is_relative_to(root / "in" / "originals")
        ]
        if outside:
            outcomes.fault(f"zip {count}: left outside: {outside[0]}")
    shutil.rmtree(WORK / "zips", ignore_errors=True)
    return outcomes


def fuzz_drawings(number: int, chance: random.Random, until: float) -> Outcomes:
    """Sanitise mutated drawings; the result must be one that nothing has to be taken out of."""
    from tests.browser.test_drawings import VECTORS, document

    outcomes = Outcomes()
    texts = [document(name, "http://stranger.invalid") for name in VECTORS]
    texts += [graphics.LOGO_SVG.encode(), graphics.gradient_svg().encode()]
    for _ in _bounded(number, until):
        data = mutated(chance.choice(texts), chance)

        def clean(data: bytes = data) -> None:
            once = sanitise(data)
            again = sanitise(once.data)
            if (again.data, again.removed) != (once.data, ()) or _loads(once.data):
                raise AssertionError(once.data)

        outcomes.call(clean, f"drawing {data[:200]!r}")
    return outcomes


_CSS_LOADS = re.compile(r"(?:url|src|image|image-set)\([^)]*stranger|@import[^;]*stranger", re.IGNORECASE)


def _loads(data: bytes) -> bool:
    """Whether a drawing has an address of the stranger's where a browser would load it: not in a text, nor in a link."""
    for element in fromstring(data).iter():
        tag = str(element.tag).rpartition("}")[2]
        if tag == "style" and "stranger" in (element.text or ""):
            return True
        for key, value in element.attrib.items():
            is_address = key.rpartition("}")[2] in ("href", "src", "srcset") and tag != "a"
            if "stranger" in value and (is_address or _CSS_LOADS.search(value)):
                return True
    return False


_MOST_PROCESSOR_S = 5.0


class _Slow(Exception):  # noqa: N818  (noted as a fault)
    """An input took more processor time than any may."""


def _timed(read: Callable[[], object]) -> Callable[[], None]:
    """Return a call that fails where it takes more than five seconds of processor time."""

    def run() -> None:
        began = time.process_time()
        try:
            read()
        finally:
            if time.process_time() - began > _MOST_PROCESSOR_S:
                raise _Slow

    return run


def fuzz_bombs(number: int, chance: random.Random, until: float) -> Outcomes:
    """Read the headers of pictures whose metadata unpack to hundreds of megabytes, or come in very many chunks."""
    from tests.web.test_bounded_requests import blanks, gif, png

    outcomes = Outcomes()
    bomb = blanks(300 << 20)
    for _ in _bounded(number, until):
        kind = chance.choice(("iTXt", "iCCP", "zTXt", "chunks", "frames", "comments"))
        packed = bomb[: chance.randrange(1000, len(bomb))] if chance.random() < 0.3 else bomb
        match kind:
            case "iTXt":
                data = png((b"iTXt", b"XML:com.adobe.xmp\0\1\0\0\0" + packed))
            case "iCCP":
                data = png((b"iCCP", b"profile\0\0" + packed))
            case "zTXt":
                name = chance.choice((b"exif", b"iptc", b"APP1"))
                data = png((b"zTXt", b"Raw profile type " + name + b"\0\0" + packed))
            case "chunks":
                data = png(*[(b"teSt", b"")] * chance.randrange(1, 30_000))
            case "frames":
                data = gif(chance.randrange(2, 30_000))
            case _:
                data = b"<!---->" * chance.randrange(600) + chance.choice(
                    (b"<svg/>", b"x", b"<!DOCTYPE svg [" * 9)
                )
        outcomes.call(_timed(partial(inspect_header, BytesView(data))), f"bomb {kind} of {len(data)} bytes")
    return outcomes


def fuzz_patterns(number: int, chance: random.Random, until: float) -> Outcomes:
    """Match random patterns, many of them made to backtrack."""
    outcomes = Outcomes()
    for _ in _bounded(number, until):
        pieces = chance.choices(
            ("*", "**", "?", "a", "b", "/", "[ab]", "[!x]", "[b-a]", "\\", "!"), k=chance.randrange(1, 90)
        )
        pattern = "".join(pieces)
        name = "".join(chance.choices("ab/", (9, 3, 1), k=chance.randrange(1, 250)))

        def match(pattern: str = pattern, name: str = name) -> None:
            scope = Scope(exclude=(pattern,))
            scope.check()
            scope.excluded_by(name)

        outcomes.call(_timed(match), f"pattern {pattern!r} on {name!r}")
    return outcomes


def fuzz_settings(number: int, chance: random.Random, until: float) -> Outcomes:
    """Read recipes of many keys, tables and levels."""
    outcomes = Outcomes()
    for _ in _bounded(number, until):
        count = chance.randrange(1, 20_000)
        text = chance.choice(
            (
                "a." * count + "a = 1",
                "".join(f"[t{at}.b]\n" for at in range(count)),
                "[[overrides]]\n" * count,
                "a = " + "[" * count + "]" * count,
                "a = " + "{ a = " * count,
                "".join(f"k{at} = 1\n" for at in range(count)),
                'name = "x"\n' + "# remark\n" * min(count, 5000),
            )
        )
        outcomes.call(_timed(partial(read_recipe, text)), f"settings {text[:40]!r} of {len(text)} characters")
    return outcomes


def fuzz_animations(number: int, chance: random.Random, until: float) -> Outcomes:
    """Sanitise lists of animations that hide an address between CSS tokens; each part of what stays is read as a browser does."""
    from tests.browser.test_drawings import fuzzed_animation

    outcomes = Outcomes()
    for _ in _bounded(number, until):
        data = fuzzed_animation(chance, "http://stranger.invalid")
        if chance.random() < 0.2:
            data = mutated(data, chance)

        def clean(data: bytes = data) -> None:
            for element in fromstring(sanitise(data).data).iter():
                parts = ";".join(element.get(name, "") for name in ("values", "to", "from", "by")).split(";")
                if any("stranger" in part and "(" in part for part in parts):
                    raise AssertionError(data)

        outcomes.call(clean, f"animation {data[:300]!r}")
    return outcomes


_LOOPS = (
    "addEventListener('load', () => setTimeout(() => { for (;;); }, {delay}))",
    "for (;;);",
    "setInterval(() => document.body.append(new Image()), 1)",
    "addEventListener('scroll', () => {{ document.body.append(document.createElement('hr')) }})",
    "while (true) document.body.append('x')",
    "location.reload()",
    "const f = () => Promise.resolve().then(f); f()",
)
_PAGE_DEADLINE_S = 6.0


def fuzz_browser(number: int, chance: random.Random, until: float) -> Outcomes:
    """Measure pages whose scripts never end, each beside an ordinary one, which must be measured all the same."""
    from young_prism.engine.browser import deadline
    from young_prism.engine.browser.measure import measure_folder
    from young_prism.engine.browser.verify import VERIFY_VIEWPORTS

    outcomes = Outcomes()
    usual, deadline.PAGE_DEADLINE_S = deadline.PAGE_DEADLINE_S, _PAGE_DEADLINE_S
    folder = WORK / "browser"
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "z.html").write_text("<!doctype html><p>ordinary")
    try:
        for _ in _bounded(number, until):
            script = chance.choice(_LOOPS).replace("{delay}", str(chance.randrange(200)))
            (folder / "a.html").write_text(f"<!doctype html><p>x<script>{script}</script>")
            began = time.monotonic()
            result = measure_folder(folder, ["a.html", "z.html"], VERIFY_VIEWPORTS[:1])
            took = time.monotonic() - began
            if [page.page for page in result.layout.pages][-1:] != ["z.html"] or took > 20 * _PAGE_DEADLINE_S:
                outcomes.fault(f"{script}: {result.failed}, {took:.0f} s")
            outcomes.counts["refused" if result.failed else "accepted"] += 1
    finally:
        deadline.PAGE_DEADLINE_S = usual
    return outcomes


_PATHS = (
    "../victim.txt",
    "/etc/hostname",
    "a/../../victim.txt",
    "..\\victim.txt",
    "c:\\x",
    "a\0b",
    ".",
    "",
    "x" * 5000,
    "link/victim.txt",
)


def fuzz_records(number: int, chance: random.Random, until: float) -> Outcomes:
    """Use manifests, journals, backups and records of rewritings with hostile contents; a file outside must stay as it is."""
    outcomes = Outcomes()
    base = WORK / "records"
    shutil.rmtree(base, ignore_errors=True)
    (base / "good/site/img").mkdir(parents=True)
    (base / "good/site/img/a.jpg").write_bytes(pictures.jpeg(pictures.photo(90, 60)))
    (base / "good/site/index.html").write_text('<img src="img/a.jpg">')
    small = Recipe(ladder=Ladder(widths=(40,)), formats=Formats(photo=FormatSet(jpeg=Jpeg())))
    good = base / "good/site"
    build(good / "img", good / "out", small)
    manifest = read_manifest(good / "out/manifest.json")
    assert manifest
    write_rewrite(
        SitePages.from_manifest(good, good / "img", good / "out", manifest).rewrite(RewriteOptions())
    )
    build(good / "img", good / "img", small.model_copy(update={"names": Names(layout="in-place")}))
    for count in _bounded(number, until):
        copy = base / "copy"
        shutil.rmtree(copy, ignore_errors=True)
        shutil.copytree(base / "good", copy)
        (copy / "victim.txt").write_text("not yours")
        (copy / "site/out/link").symlink_to(copy)
        _spoil(copy, chance)
        for use in chance.sample(_uses(copy, small), 3):
            outcomes.call(use, f"record {count}")
        if (copy / "victim.txt").read_text() != "not yours" or (copy.parent / "victim.txt").exists():
            outcomes.fault(f"record {count}: a file outside was touched")
    shutil.rmtree(base, ignore_errors=True)
    return outcomes


def _uses(copy: Path, recipe: Recipe) -> list[Callable[[], object]]:
    """Return everything that reads records and then writes or deletes."""
    site, out = copy / "site", copy / "site/out"
    return [
        lambda: remove_orphans(out),
        lambda: Package.from_output(out),
        lambda: deploy(plan_deploy(out, storage_at(str(copy / "www")))),
        lambda: OriginalsBackup.from_site(site / "img").restore(site / "img"),
        lambda: undo_rewrite(site),
        lambda: build(site / "img", out, recipe),
    ]


def _spoil(copy: Path, chance: random.Random) -> None:
    names = (
        "manifest.json",
        "young-prism-manifest.json",
        "kept.jsonl",
        "rewritten.json",
        "journal.jsonl",
        "stamps.jsonl",
        "standing",
    )
    files = [file for name in names for file in copy.rglob(name) if file.is_file()]
    for file in chance.sample(files, chance.randint(1, len(files))):
        text = file.read_bytes()
        if chance.random() < 0.3:
            file.write_bytes(
                chance.choice((b"[" * 50_000, b"[]", b"null", b"", b"{}", mutated(text, chance)))
            )
            continue
        lines = text.split(b"\n") if file.suffix == ".jsonl" else [text]
        spoilt = []
        for line in lines:
            try:
                spoilt.append(json.dumps(_with_paths(json.loads(line), chance)).encode())
            except ValueError:
                spoilt.append(line)
        file.write_bytes(b"\n".join(spoilt))


def _with_paths(value: object, chance: random.Random) -> object:
    """Return JSON with some of its paths replaced by ones that lead out."""
    if isinstance(value, dict):
        spoil = {"path", "date", "site", "mode", "sha256"}
        return {
            key: chance.choice(_PATHS)
            if key in spoil and chance.random() < 0.4
            else _with_paths(item, chance)
            for key, item in value.items()
        }
    return [_with_paths(item, chance) for item in value] if isinstance(value, list) else value


def _bounded(number: int, until: float) -> Iterator[int]:
    for count in range(number):
        if time.monotonic() > until:
            return
        yield count


PARTS: dict[str, tuple[Callable[[int, random.Random, float], Outcomes], int]] = {
    "pictures": (fuzz_pictures, 10_000),
    "TOML": (fuzz_toml, 5_000),
    "pages": (fuzz_pages, 2_000),
    "zips": (fuzz_zips, 1_000),
    "drawings": (fuzz_drawings, 3_000),
    "records": (fuzz_records, 500),
    "metadata bombs": (fuzz_bombs, 300),
    "patterns": (fuzz_patterns, 20_000),
    "settings": (fuzz_settings, 500),
    "SVG animations": (fuzz_animations, 3_000),
    "pages in Chromium": (fuzz_browser, 30),
}


def table(results: Iterable[tuple[str, Outcomes]]) -> str:
    """Return the outcomes as Markdown."""
    names = ("accepted", "refused", "failed later", "renditions", "fault")
    rows = [f"| input | {' | '.join(names)} |", "| --- |" + " --- |" * len(names)]
    rows += [
        f"| {part} | {' | '.join(f'{outcomes.counts[name]:,}' for name in names)} |"
        for part, outcomes in results
    ]
    return "\n".join(rows)


def main() -> None:
    """Run the parts that are asked for, and print the table and every fault."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--share", type=float, default=1.0, help="of the usual number of inputs")
    parser.add_argument("--minutes", type=float, default=20.0, help="at most, for each part")
    parser.add_argument("parts", nargs="*", default=list(PARTS))
    arguments = parser.parse_args()
    results = []
    for part in arguments.parts:
        run, number = PARTS[part]
        began = time.monotonic()
        chance = random.Random(arguments.seed)  # noqa: S311
        outcomes = run(round(number * arguments.share), chance, began + arguments.minutes * 60)
        results.append((part, outcomes))
        print(f"{part}: {dict(outcomes.counts)} in {time.monotonic() - began:.0f} s", flush=True)
        for fault in outcomes.faults[:20]:
            print("  FAULT", fault, flush=True)
    print(table(results))


if __name__ == "__main__":
    main()
