"""What a form about a recipe says, worked into the recipe's text.

The text is the recipe; the controls next to it are another way to change it. A form sends both, and `base`, the text that
the controls were drawn from: where somebody typed in the text, that counts, else what differs in the controls.

Names of controls: `set:PATH` is a value, `percent:PATH` one shown in per cent, `has:PATH` marks a box that may be ticked,
`choose:PATH` is one of several tables of which only one can be there. `do` is a button.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from typing import Any

from werkzeug.datastructures import FileStorage, MultiDict

from young_prism.core.errors import RecipeError
from young_prism.core.ladder.layout import read_viewports
from young_prism.core.ladder.rungs import widths_of
from young_prism.core.recipe.edit import Value, parse_value, value_at, with_value
from young_prism.core.recipe.toml import parsed, read_recipe

_FALLBACKS = {"jpeg": {"matte": "#ffffff"}, "png": {}}
_WAYS: Mapping[str, Value] = {
    "steps": {},
    "layout": {"lines": [{"up_to": 640}, {"share": 0.5, "at_most": 720}]},
    "percents": [25, 50, 100],
}
_NEW: Mapping[str, Value] = {
    "facets": {"name": "square", "aspect": "1:1"},
    "overrides": {"match": "folder/**"},
}


def text_of(form: MultiDict[str, str], viewports: FileStorage | None = None, *, watermark: str = "") -> str:
    """Return the text of a recipe as a form leaves it. Raises `RecipeError` where it cannot be changed by controls.

    `watermark` is the name of a file that came with the form.
    """
    text = _lines(form.get("toml", ""))
    if "base" in form and _lines(form["base"]) == text:
        for path, value in _changed(text, form):
            text = _put(text, path, value)
        if viewports and viewports.filename:
            imported = read_viewports(
                viewports.read().decode("utf-8-sig", "replace"), file=viewports.filename
            )
            text = with_value(text, "ladder.layout.viewports", [list(pair) for pair in imported])
    if watermark:
        text = _put(text, "finishing.watermark.file", watermark)
    do, _, target = form.get("do", "").partition(":")
    return _done(text, do, target) if do else text


def _lines(text: str) -> str:
    return text.replace("\r\n", "\n")


def _changed(text: str, form: MultiDict[str, str]) -> Iterator[tuple[str, Value]]:
    plain = parsed(text)
    for name, value in form.items():
        field, _, path = name.partition(":")
        if field == "has":
            now: Value = parse_value(path, "on" if f"set:{path}" in form else "")
            before = value_at(plain, path)
            if isinstance(before, Mapping) or now == {}:
                now = {} if now == {} else None
                if (before is None) != (now is None):
                    yield path, now
                continue
        elif field in ("set", "percent") and f"has:{path}" not in form:
            now = parse_value(path, f"{value}%" if field == "percent" and value.strip() else value)
            before = value_at(plain, path)
        elif field == "choose":
            yield from _fallback_changes(plain, path, value)
            continue
        else:
            continue
        if now != before and (now is not None or before not in (None, [], "")):
            yield path, now


def _fallback_changes(plain: Mapping[str, Any], path: str, chosen: str) -> Iterator[tuple[str, Value]]:
    """Yield what makes a format the only fallback of a kind, or with `none` takes all fallbacks away."""
    if chosen in _FALLBACKS and value_at(plain, f"{path}.{chosen}") is None:
        yield f"{path}.{chosen}", dict(_FALLBACKS[chosen] if path.endswith("_transparent") else {})
    for fallback in _FALLBACKS:
        if fallback != chosen and value_at(plain, f"{path}.{fallback}") is not None:
            yield f"{path}.{fallback}", None


def _put(text: str, path: str, value: Value) -> str:
    if path == "publish.to" and value is None:
        path = "publish"  # without a place there is nothing to publish
    if path.endswith((".watermark.file", ".watermark.text")):
        return _with_mark(text, path, value)
    # Without its widths a facet has the recipe's ladder again.
    if value is None and path.endswith(".ladder.widths"):
        path = path.rpartition(".")[0]
    try:
        return with_value(text, path, value)
    except LookupError:
        return text  # a place that is gone since the page was drawn


def _with_mark(text: str, path: str, value: Value) -> str:
    """Set the file or the text of a watermark, which takes the other away; without both there is no watermark."""
    table, _, key = path.rpartition(".")
    alternative = f"{table}.{'text' if key == 'file' else 'file'}"
    if value is None:
        return with_value(text, path if value_at(parsed(text), alternative) else table, None)
    text = with_value(text, path, value)
    return with_value(text, alternative, None) if value_at(parsed(text), alternative) else text


def _done(text: str, do: str, path: str) -> str:
    """Return the text after a button was pressed; what is another button changes nothing."""
    try:
        return _BUTTONS[do](text, path)
    except (LookupError, ValueError):
        return text


def _with_rungs(text: str, path: str) -> str:
    key = "ladder.layout.rungs" if value_at(parsed(text), "ladder.layout") else "ladder.widths"
    return with_value(text, key, sorted({int(width) for width in path.split(",")}))


def _list(text: str, path: str) -> list[Any]:
    value = value_at(parsed(text), path)
    return value if isinstance(value, list) else []


def _with_line(text: str, _path: str) -> str:
    """Add a line to the layout above the last one, which has no end."""
    lines = _list(text, "ladder.layout.lines")
    ends = [line["up_to"] for line in lines if "up_to" in line]
    lines.insert(len(lines) - 1, {"up_to": round(max(ends) * 1.6) if ends else 640, "share": 1.0})
    return with_value(text, "ladder.layout.lines", lines)


def _with_way(text: str, way: str) -> str:
    """Come by the rungs in another way; a list begins with the rungs that there are."""
    if way not in ("widths", *_WAYS):
        return text
    if way == "widths":
        try:
            ladder = read_recipe(text).ladder
        except RecipeError:
            ladder = None
        if ladder and ladder.layout:
            text = with_value(text, "ladder.widths", list(widths_of(ladder)))
    for alternative in _WAYS:
        text = with_value(text, f"ladder.{alternative}", None) if alternative != way else text
    if way != "widths" and not value_at(parsed(text), f"ladder.{way}"):
        text = with_value(text, f"ladder.{way}", _WAYS[way])
        text = with_value(text, "ladder.measure", None) if way == "layout" else text
    return text


_BUTTONS: Mapping[str, Callable[[str, str], str]] = {
    "remove": lambda text, path: with_value(text, path, None),
    "add": lambda text, path: with_value(text, f"{path}.{len(_list(text, path))}", _NEW[path]),
    "add-line": _with_line,
    "way": _with_way,
    "best": lambda text, path: with_value(text, "ladder.layout.rungs", int(path)),
    "rungs": _with_rungs,
}
