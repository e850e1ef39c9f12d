"""Proofs on odd pictures and by odd people: tiny, clear and black ones, targets that nothing reaches, pages that are left."""

from __future__ import annotations

import io
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from tests.support import pictures
from tests.support.pages import wait_for
from young_prism.core.errors import ChangedError, YoungPrismError
from young_prism.core.inspection.inspect import inspect_bytes
from young_prism.core.naming.rule import WHOLE_FACET
from young_prism.core.plan.make import make_plan
from young_prism.core.plan.model import PlannedOriginal
from young_prism.core.proof.candidate import candidate_of
from young_prism.core.recipe.codecs import Avif, Jpeg, Png, Webp
from young_prism.core.recipe.formats import Formats, FormatSet
from young_prism.core.recipe.ladder import Ladder
from young_prism.core.recipe.model import Recipe
from young_prism.core.render.render import render
from young_prism.core.render.results import Rendered
from young_prism.core.types import (
    ImageFormat,
    Outcome,
    Size,
)
from young_prism.engine.proof.service import ProofService
from young_prism.engine.proof.tasks import (
    ProofRequest,
    ProofResult,
    ProofTask,
    run_proof,
)

ODD = {
    "one pixel": Image.new("RGB", (1, 1), (200, 30, 40)),
    "a strip of 8": pictures.photo(300, 8),
    "black": Image.new("RGB", (300, 200)),
    "clear": Image.new("RGBA", (300, 200), (10, 20, 30, 0)),
}


def planned(
    data: bytes, formats: FormatSet | None = None, widths: tuple[int, ...] = (300,)
) -> PlannedOriginal:
    chosen = formats or FormatSet(avif=Avif(effort=0), webp=Webp(), png=Png(level=0))
    names = ("photo", "photo_transparent", "graphic", "graphic_transparent")
    every = Formats(**{name: chosen.model_dump() for name in names})  # type: ignore[arg-type]
    return make_plan(
        {"a.png": inspect_bytes(data)}, Recipe(ladder=Ladder(widths=widths), formats=every)
    ).originals[0]


def proof_request(
    root: Path,
    original: PlannedOriginal,
    name: str,
    task: ProofTask = ProofTask.ENCODE,
    target: float | None = None,
) -> ProofRequest:
    size = max(r.size for r in original.renditions)
    return ProofRequest(
        str(root), original, WHOLE_FACET, size, task, candidate_of(name, Formats().photo.settings()), target
    )


@pytest.mark.parametrize("name", ODD)
def test_the_oddest_pictures_are_proved_and_brought_to_a_target(name: str, tmp_path: Path) -> None:
    data = pictures.png(ODD[name])
    (tmp_path / "a.png").write_bytes(data)
    original = planned(data)
    for candidate in ("webp-60", "jpeg-60", "png", "webp-lossless", "avif-60-e0"):
        result = run_proof(str(tmp_path / "kept"), proof_request(tmp_path, original, candidate))
        assert result.score is not None and result.score > 20 and result.bytes
        Image.open(io.BytesIO((tmp_path / "kept" / result.file).read_bytes())).load()
    result = run_proof(
        str(tmp_path / "kept"), proof_request(tmp_path, original, "webp-60", ProofTask.SEARCH, 75)
    )
    assert result.reached and result.score is not None and result.score >= 75
    for task in (ProofTask.EXACT, ProofTask.MAP):
        made = run_proof(str(tmp_path / "kept"), proof_request(tmp_path, original, "webp-60", task))
        assert (
            Image.open(io.BytesIO((tmp_path / "kept" / made.file).read_bytes())).size == original.facts.size
        )


def test_what_is_there_is_not_made_again_and_what_changed_is_said(tmp_path: Path) -> None:
    data = pictures.png(pictures.photo(300, 200))
    (tmp_path / "a.png").write_bytes(data)
    item = proof_request(tmp_path, planned(data), "webp-50")
    first = run_proof(str(tmp_path / "kept"), item)
    before = (tmp_path / "kept" / first.file).stat().st_mtime_ns
    assert run_proof(str(tmp_path / "kept"), item) == first
    assert (tmp_path / "kept" / first.file).stat().st_mtime_ns == before
    (tmp_path / "kept" / first.file).write_bytes(b"cut off")
    assert replace(run_proof(str(tmp_path / "kept"), item), seconds=first.seconds) == first  # made anew
    (tmp_path / "a.png").write_bytes(pictures.png(pictures.photo(301, 200, 5)))
    second = proof_request(tmp_path, planned(pictures.png(pictures.photo(300, 199, 7))), "webp-50")
    with pytest.raises(ChangedError, match=r"a\.png"):
        run_proof(str(tmp_path / "kept"), second)


def rendered(
    formats: FormatSet, data: bytes, widths: tuple[int, ...] = (300,)
) -> dict[ImageFormat, Rendered]:
    original = planned(data, formats, widths)
    return {
        item.planned.format: item for item in render(data, original) if item.planned.size.width == max(widths)
    }


def test_a_target_that_nothing_reaches_says_so_and_what_the_best_is() -> None:
    noise = np.random.default_rng(1).integers(0, 255, (200, 300, 3), np.uint8)
    done = rendered(
        FormatSet(target=97, webp=Webp(highest=60), png=Png(level=0)), pictures.png(Image.fromarray(noise))
    )
    reason = done[ImageFormat.WEBP].reason
    assert "quality 60, score" in reason and "no quality up to 60 reaches 97" in reason


def test_what_would_be_larger_than_the_original_stays_under_it_and_says_so() -> None:
    data = pictures.jpeg(pictures.photo(300, 200), quality=12)
    done = rendered(
        FormatSet(target=95, never_larger=True, webp=Webp(), jpeg=Jpeg(matte="#ffffff")), data, (300,)
    )
    for item in done.values():
        assert item.bytes <= len(data)
        assert item.outcome is not Outcome.MADE or "no more bytes than the original; 95 needs" in item.reason


def test_a_band_keeps_what_is_inside_and_moves_the_rest_to_its_nearest_edge() -> None:
    soft = pictures.png(pictures.photo(300, 200).resize((30, 20)).resize((300, 200)))
    for data, quality, low, high in ((soft, 80, 40, 60), (pictures.png(pictures.photo(300, 200)), 5, 70, 90)):
        formats = FormatSet(band=(low, high), webp=Webp(quality=quality), png=Png(level=0))
        item = rendered(formats, data)[ImageFormat.WEBP]
        assert "the edge of its band" in item.reason, item.reason
    inside = rendered(FormatSet(band=(20, 97), webp=Webp(quality=77), png=Png(level=0)), soft)
    assert (
        "quality 77" in inside[ImageFormat.WEBP].reason
        and "inside its band" in inside[ImageFormat.WEBP].reason
    )


def test_a_palette_is_taken_only_where_it_looks_well_enough() -> None:
    drawn, shaded = pictures.png(pictures.graphic(500, 300)), pictures.png(pictures.photo(500, 300))
    done = rendered(FormatSet(png=Png(level=1, palette=97)), shaded, (400,))[ImageFormat.PNG]
    assert done.reason.endswith("under 97") and len(Image.open(io.BytesIO(done.data or b"")).getbands()) == 3
    few = rendered(FormatSet(png=Png(level=1, palette=40)), shaded, (400,))[ImageFormat.PNG]
    assert Image.open(io.BytesIO(few.data or b"")).mode == "P" and few.bytes < done.bytes
    plain = rendered(FormatSet(png=Png(level=1)), drawn, (400,))[ImageFormat.PNG]
    saved = rendered(FormatSet(png=Png(level=1, palette=90)), drawn, (400,))[ImageFormat.PNG]
    assert saved.bytes <= plain.bytes


@pytest.fixture
def proofs(tmp_path: Path) -> Iterator[ProofService]:
    made = ProofService(tmp_path / "kept", jobs=1)
    yield made
    made.close()


def test_the_newest_page_is_served_first_and_a_page_that_was_left_is_not(
    tmp_path: Path, proofs: ProofService
) -> None:
    data = pictures.png(pictures.photo(900, 600))
    (tmp_path / "a.png").write_bytes(data)
    original = planned(data, widths=(900,))
    long = [proof_request(tmp_path, original, f"avif-{quality}") for quality in range(40, 80)]
    proofs.request("first page", long)
    quick = proof_request(tmp_path, original, "jpeg-50")

    def second_page() -> ProofResult | YoungPrismError | None:
        proofs.request("first page", long)
        return proofs.request("second page", [quick])[0]

    assert isinstance(wait_for(second_page), ProofResult)
    assert sum(item is not None for item in proofs.request("first page", long)) < len(long) - 5
    proofs.leave("first page")
    wait_for(lambda: not proofs._handed)  # what a worker was at is made to its end
    files = len(list((tmp_path / "kept").rglob("*.avif")))
    third = proof_request(tmp_path, original, "jpeg-51")
    wait_for(lambda: proofs.request("third page", [third])[0])
    wait_for(lambda: not proofs._handed)
    assert len(list((tmp_path / "kept").rglob("*.avif"))) == files < len(long)


def test_what_cannot_be_decoded_is_an_answer_too(tmp_path: Path, proofs: ProofService) -> None:
    data = pictures.jpeg(pictures.photo(300, 200))
    cut = data[: len(data) // 2]
    (tmp_path / "a.png").write_bytes(cut)
    original = planned(data)
    facts = original.facts.as_dict() | {"sha256": __import__("hashlib").sha256(cut).hexdigest()}
    broken = PlannedOriginal(
        path="a.png", facts=type(original.facts).from_dict(facts), renditions=original.renditions
    )
    item = ProofRequest(
        str(tmp_path), broken, WHOLE_FACET, Size(300, 200), ProofTask.ENCODE, candidate_of("webp-50", {})
    )
    result = wait_for(lambda: proofs.request("page", [item])[0])
    assert (
        isinstance(result, YoungPrismError) and "ends in the middle" in result.what and result.file == "a.png"
    )
